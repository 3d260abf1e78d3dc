-- A site has a name in addresses; programs have tokens.
ALTER TABLE site ADD COLUMN slug text;
UPDATE site SET slug = coalesce(nullif(trim(both '-' from regexp_replace(lower(name), '[^a-z0-9]+', '-', 'g')), ''), 'site') || CASE
    WHEN EXISTS (SELECT FROM site o WHERE o.id < site.id AND lower(o.name) = lower(site.name)) THEN '-' || id ELSE '' END;
ALTER TABLE site ALTER COLUMN slug SET NOT NULL;
CREATE UNIQUE INDEX ON site (slug);

CREATE TABLE api_token (
    -- SHA-256 of what programs show.
    token bytea PRIMARY KEY,
    id uuid NOT NULL UNIQUE,
    name text NOT NULL,
    site_id integer NOT NULL REFERENCES site ON DELETE CASCADE,
    scopes text[] NOT NULL,
    made_by text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now(),
    ends_at timestamptz NOT NULL,
    seen_at timestamptz
);
CREATE INDEX ON api_token (site_id);
