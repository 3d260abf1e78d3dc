-- Links that show one page of a site, with its stretch, to whoever has them.
CREATE TABLE share_link (
    -- SHA-256 of what the link holds.
    token bytea PRIMARY KEY,
    id uuid NOT NULL UNIQUE,
    site_id integer NOT NULL REFERENCES site ON DELETE CASCADE,
    -- Below the name of the site, and its parameters in order.
    path text NOT NULL,
    query text NOT NULL,
    made_by text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now(),
    ends_at timestamptz NOT NULL,
    -- When it was last opened, to the minute.
    seen_at timestamptz
);
CREATE INDEX ON share_link (site_id);
