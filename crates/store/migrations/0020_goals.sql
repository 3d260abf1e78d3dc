-- A goal is over one or several journeys, of several kinds and periods, and has versions: a window is judged by the version
-- that was in force when it began.
CREATE TABLE goal_version (
    goal_id integer NOT NULL REFERENCES goal ON DELETE CASCADE,
    version integer NOT NULL,
    definition jsonb NOT NULL,
    from_at timestamptz NOT NULL,
    author text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (goal_id, version)
);

INSERT INTO goal_version (goal_id, version, definition, from_at, author)
    SELECT id, 1, jsonb_build_object('measure', 'availability', 'combine', 'pooled', 'journeys', jsonb_build_array(journey_id),
        'locations', '[]'::jsonb, 'service_hours', NULL, 'period', 'month', 'promised', promised), timestamptz '2000-01-01 00:00Z', ''
    FROM goal;

ALTER TABLE goal DROP COLUMN journey_id, DROP COLUMN promised, ADD UNIQUE (site_id, name);

-- Whoever takes a carve-out back leaves it in the record.
ALTER TABLE carve_out
    DROP CONSTRAINT carve_out_goal_id_fkey,
    ADD FOREIGN KEY (goal_id) REFERENCES goal ON DELETE CASCADE,
    ADD COLUMN made_at timestamptz NOT NULL DEFAULT now(),
    ADD COLUMN revoked_at timestamptz,
    ADD COLUMN revoked_by text,
    ADD CHECK ((revoked_at IS NULL) = (revoked_by IS NULL));
CREATE INDEX ON carve_out (goal_id);
