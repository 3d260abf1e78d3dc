-- Somebody at work on a page that is to become a journey: the page stands in a browser of a runner, pictures
-- come from there and inputs go there.
CREATE TABLE recording (
    id uuid PRIMARY KEY,
    site_id int NOT NULL REFERENCES site,
    location_id int NOT NULL REFERENCES location,
    address text NOT NULL,
    asked_at timestamptz NOT NULL,
    -- when somebody last looked on: a recording that nobody looks at ends
    looked_at timestamptz NOT NULL,
    runner text,
    told_at timestamptz,
    ended boolean NOT NULL DEFAULT false,
    -- why it ended by itself
    trouble text,
    acts jsonb NOT NULL,
    about jsonb NOT NULL DEFAULT '{}'
);
CREATE INDEX ON recording (location_id) WHERE NOT ended;

-- Lost in a crash without harm.
CREATE UNLOGGED TABLE recording_picture (
    recording_id uuid PRIMARY KEY,
    nth int NOT NULL,
    picture text NOT NULL
);
CREATE UNLOGGED TABLE recording_input (
    recording_id uuid NOT NULL,
    nth bigint GENERATED ALWAYS AS IDENTITY,
    input jsonb NOT NULL,
    PRIMARY KEY (recording_id, nth)
);

-- How often, on what, where to; who may change it.
ALTER TABLE journey
    ADD COLUMN pace text,
    ADD COLUMN device text NOT NULL DEFAULT 'desktop',
    ADD COLUMN environment text NOT NULL DEFAULT 'production',
    -- a failed run is played once more before it counts
    ADD COLUMN retry boolean NOT NULL DEFAULT false,
    -- names of those who may save its script; empty: everybody
    ADD COLUMN editors text[] NOT NULL DEFAULT '{}',
    ADD COLUMN copied_from int,
    DROP CONSTRAINT journey_life_check,
    ADD CHECK (life IN ('active', 'paused', 'finished', 'archived'));
UPDATE journey SET pace = 'every ' || every_s;
ALTER TABLE journey ALTER COLUMN pace SET NOT NULL;
COMMENT ON COLUMN journey.every_s IS 'shortest time between two runs at a location, out of the pace';

ALTER TABLE location
    ADD COLUMN latitude float8 CHECK (latitude BETWEEN -90 AND 90),
    ADD COLUMN longitude float8 CHECK (longitude BETWEEN -180 AND 180),
    -- SOCKS5, host and port; a runner that has one of its own keeps to that
    ADD COLUMN proxy text;

ALTER TABLE site
    -- [name, address] pairs; the first is what visitors use
    ADD COLUMN environments jsonb NOT NULL DEFAULT '[]',
    ADD COLUMN keep_days int NOT NULL DEFAULT 30 CHECK (keep_days BETWEEN 1 AND 400),
    ADD COLUMN keep_failed_days int NOT NULL DEFAULT 90 CHECK (keep_failed_days BETWEEN 1 AND 800),
    -- address of a trace in the back end, with {trace} where its id goes
    ADD COLUMN trace_link text NOT NULL DEFAULT '';

-- A run that failed and is being, or was, played once more: it is kept here and counts nowhere, unless the second
-- try never came or could not measure; then it goes among the runs.
ALTER TABLE work ADD COLUMN first_try uuid;
CREATE TABLE first_try (LIKE run INCLUDING DEFAULTS INCLUDING COMPRESSION, second uuid NOT NULL, PRIMARY KEY (site_id, due_at, id));
CREATE INDEX ON first_try (second);
CREATE INDEX ON first_try (id);

ALTER TABLE trial ADD COLUMN device text NOT NULL DEFAULT 'desktop';

-- The runs of a journey on a day (UTC) that is over, packed into one value: made when somebody first reads that day,
-- dropped when a late run of it comes in. Weeks of runs are read from here.
CREATE TABLE run_day (
    site_id int NOT NULL,
    journey_id int NOT NULL,
    day date NOT NULL,
    sheet bytea COMPRESSION lz4 NOT NULL,
    PRIMARY KEY (site_id, journey_id, day)
);

-- Milliseconds of the run in network, server and browser; unknown where no request was kept.
ALTER TABLE run ADD COLUMN split_ms float4[];
ALTER TABLE first_try ADD COLUMN split_ms float4[];

-- What was accepted of a journey's pages, and is compared with: at first what the first run that passed saw.
CREATE TABLE accepted (
    journey_id int NOT NULL REFERENCES journey ON DELETE CASCADE,
    key text NOT NULL,
    seen text COMPRESSION lz4 NOT NULL,
    author text NOT NULL,
    accepted_at timestamptz NOT NULL,
    PRIMARY KEY (journey_id, key)
);

-- Work that was given out and is too late to be given out again: its record is still taken when it comes.
ALTER TABLE work ADD COLUMN dropped boolean NOT NULL DEFAULT false;
