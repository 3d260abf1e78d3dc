-- Journeys as they are written, and what it takes to play them.
ALTER TABLE journey
    ADD COLUMN version int NOT NULL DEFAULT 1,
    ADD COLUMN life text NOT NULL DEFAULT 'active' CHECK (life IN ('active', 'paused', 'archived')),
    ADD COLUMN tags text[] NOT NULL DEFAULT '{}',
    ADD COLUMN owner text NOT NULL DEFAULT '',
    ADD COLUMN essential boolean NOT NULL DEFAULT true;
UPDATE journey SET life = 'paused' WHERE NOT active;
ALTER TABLE journey DROP COLUMN active;

CREATE TABLE script_version (
    journey_id int NOT NULL REFERENCES journey ON DELETE CASCADE,
    version int NOT NULL,
    script text NOT NULL,
    author text NOT NULL,
    note text NOT NULL DEFAULT '',
    saved_at timestamptz NOT NULL,
    PRIMARY KEY (journey_id, version)
);
INSERT INTO script_version SELECT id, 1, script, 'Cadentis', 'first version', now() FROM journey;

-- Which version was played: given with the lease, kept with the run.
ALTER TABLE work ADD COLUMN version int;
ALTER TABLE run ADD COLUMN version int;

-- Common parts that every script of the site may follow, as one text.
ALTER TABLE site ADD COLUMN parts text NOT NULL DEFAULT '';

-- Sealed by the server; the key is not here.
CREATE TABLE secret (
    site_id int NOT NULL REFERENCES site,
    name text NOT NULL,
    sealed bytea NOT NULL,
    author text NOT NULL,
    set_at timestamptz NOT NULL,
    PRIMARY KEY (site_id, name)
);

-- A script played once on somebody's wish, before it is saved or after; counted nowhere.
CREATE TABLE trial (
    id uuid PRIMARY KEY,
    site_id int NOT NULL REFERENCES site,
    location_id int NOT NULL REFERENCES location,
    script text NOT NULL,
    asked_at timestamptz NOT NULL,
    lease_until timestamptz,
    leased_by text,
    cancelled boolean NOT NULL DEFAULT false,
    -- what the runner last told: the step and line it is at, a picture
    progress json,
    record json COMPRESSION lz4
);
CREATE INDEX ON trial (location_id, asked_at) WHERE record IS NULL;

-- Who plays where: told with each question for work.
CREATE TABLE runner (
    location_id int NOT NULL REFERENCES location,
    name text NOT NULL,
    program text NOT NULL,
    protocol int NOT NULL,
    seen_at timestamptz NOT NULL,
    busy_since timestamptz,
    PRIMARY KEY (location_id, name)
);
