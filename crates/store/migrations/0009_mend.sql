-- Words: what pages give are attributes and numbers; a journey has a status.
SET LOCAL statement_timeout = 0;
UPDATE sheet SET name = 'attribute.' || substr(name, 7) WHERE name LIKE 'label.%';
UPDATE sheet SET name = 'number.' || substr(name, 8) WHERE name LIKE 'figure.%';
ALTER TABLE journey RENAME COLUMN life TO status;

-- Networks that a location's runner must not reach. Public ones keep away from this machine, from its link and from what
-- hands out credentials.
ALTER TABLE location ADD COLUMN denied text[] NOT NULL DEFAULT '{}';
UPDATE location SET denied = '{0.0.0.0/8,127.0.0.0/8,169.254.0.0/16,100.100.100.200/32,::/128,::1/128,fe80::/10,fd00:ec2::254/128}'
WHERE kind = 'public';

-- Where the clock was last seen, and since when it goes on as clocks do.
CREATE TABLE heartbeat (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    seen_at timestamptz NOT NULL,
    steady_since timestamptz NOT NULL
);
CREATE INDEX ON recording_input (recording_id);
