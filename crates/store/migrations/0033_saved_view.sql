-- Views that people put together: pieces in an order. Whoever wants to begins with one after signing in.
CREATE TABLE saved_view (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id integer NOT NULL REFERENCES site ON DELETE CASCADE,
    name text NOT NULL,
    definition jsonb NOT NULL,
    -- Counts up with each change, so that two people who change it at once notice.
    version integer NOT NULL DEFAULT 1,
    -- The team that it belongs to; without one every editor may change it.
    team_id integer REFERENCES team ON DELETE SET NULL,
    -- Who changed it last, and when.
    author text NOT NULL,
    changed_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (site_id, name)
);
ALTER TABLE person ADD COLUMN start_view_id integer REFERENCES saved_view ON DELETE SET NULL;
