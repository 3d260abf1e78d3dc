-- Work on the history of a site that takes minutes: any server does an hour of it at a time, and any may go on.
CREATE TABLE task (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id int NOT NULL REFERENCES site,
    what text NOT NULL CHECK (what IN ('families')),
    -- the hours [first, last), newest first; those from `at` on are done
    first timestamptz NOT NULL,
    last timestamptz NOT NULL,
    at timestamptz NOT NULL,
    changed bigint NOT NULL DEFAULT 0,
    state text NOT NULL DEFAULT 'runs' CHECK (state IN ('runs', 'done', 'stopped', 'failed')),
    says text NOT NULL DEFAULT '',
    begun_at timestamptz NOT NULL DEFAULT now(),
    ended_at timestamptz
);
-- One of a kind at a time.
CREATE UNIQUE INDEX task_runs ON task (site_id, what) WHERE state = 'runs';
