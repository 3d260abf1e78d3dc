-- Maintenance comes once or again and again, on a clock of its own, for some journeys at some locations. What has been stays:
-- a row that is changed ends then, and another goes on.
ALTER TABLE maintenance
    ADD COLUMN says jsonb,
    ADD COLUMN journeys integer[] NOT NULL DEFAULT '{}',
    ADD COLUMN locations integer[] NOT NULL DEFAULT '{}',
    ADD COLUMN holds boolean NOT NULL DEFAULT false,
    ADD COLUMN detail text NOT NULL DEFAULT '',
    ADD COLUMN version integer NOT NULL DEFAULT 1,
    ADD COLUMN author text NOT NULL DEFAULT '',
    ADD COLUMN made_at timestamptz NOT NULL DEFAULT now();

UPDATE maintenance SET says = jsonb_build_object(
    'first', to_char(from_at AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS'),
    'length', jsonb_build_object('seconds', greatest(1, round(extract(epoch FROM to_at - from_at))::bigint)),
    'repeat', 'once', 'clock', 'UTC', 'why', why);

ALTER TABLE maintenance ALTER COLUMN says SET NOT NULL, DROP COLUMN from_at, DROP COLUMN to_at, DROP COLUMN why;
CREATE INDEX ON maintenance (site_id);

-- A calendar that others subscribe to: one for a site, known by its address alone.
CREATE TABLE maintenance_feed (
    site_id integer PRIMARY KEY REFERENCES site ON DELETE CASCADE,
    token_sha256 bytea NOT NULL UNIQUE,
    author text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now()
);
