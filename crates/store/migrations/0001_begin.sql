-- What is monitored, from where, how often.
CREATE TABLE site (
    id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    key text NOT NULL UNIQUE,
    name text NOT NULL,
    zone text NOT NULL,
    domains text[] NOT NULL,
    -- ordered [pattern, name] pairs, first match wins
    families jsonb NOT NULL DEFAULT '[]',
    apdex_t_s float8 NOT NULL DEFAULT 1.5
);

CREATE TABLE location (
    id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    slug text NOT NULL UNIQUE,
    name text NOT NULL,
    country text NOT NULL,
    kind text NOT NULL CHECK (kind IN ('public', 'in-house')),
    zone text NOT NULL,
    -- the token itself is known to the runner only
    token_sha256 bytea NOT NULL
);

CREATE TABLE journey (
    id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id int NOT NULL REFERENCES site,
    slug text NOT NULL,
    name text NOT NULL,
    script text NOT NULL,
    every_s int NOT NULL CHECK (every_s >= 60),
    active boolean NOT NULL DEFAULT true,
    apdex_t_s float8 NOT NULL,
    UNIQUE (site_id, slug)
);

CREATE TABLE journey_location (
    journey_id int NOT NULL REFERENCES journey ON DELETE CASCADE,
    location_id int NOT NULL REFERENCES location,
    -- place in the even spread of starts over the interval
    nth int NOT NULL,
    PRIMARY KEY (journey_id, location_id)
);

CREATE TABLE goal (
    id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id int NOT NULL REFERENCES site,
    journey_id int NOT NULL REFERENCES journey,
    name text NOT NULL,
    promised float8 NOT NULL CHECK (promised > 0 AND promised < 1)
);

CREATE TABLE budget (
    id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id int NOT NULL REFERENCES site,
    -- NULL: the whole site
    family text,
    vital text NOT NULL,
    limit_value float8 NOT NULL
);

-- Time that does not count, and what is pinned to the axis.
CREATE TABLE maintenance (
    id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id int NOT NULL REFERENCES site,
    from_at timestamptz NOT NULL,
    to_at timestamptz NOT NULL CHECK (to_at > from_at),
    why text NOT NULL
);

CREATE TABLE carve_out (
    id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    goal_id int NOT NULL REFERENCES goal,
    from_at timestamptz NOT NULL,
    to_at timestamptz NOT NULL CHECK (to_at > from_at),
    why text NOT NULL,
    author text NOT NULL
);

CREATE TABLE marker (
    id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id int NOT NULL REFERENCES site,
    at timestamptz NOT NULL,
    title text NOT NULL,
    detail text NOT NULL DEFAULT ''
);
CREATE INDEX ON marker (site_id, at);

-- Due runs that wait for a runner, or are being played under a lease.
CREATE TABLE work (
    id uuid PRIMARY KEY,
    site_id int NOT NULL,
    journey_id int NOT NULL,
    location_id int NOT NULL,
    due_at timestamptz NOT NULL,
    lease_until timestamptz,
    leased_by text,
    attempts int NOT NULL DEFAULT 0,
    UNIQUE (journey_id, location_id, due_at)
);
CREATE INDEX ON work (location_id, due_at);

-- Hot tables: the site and the time lead every key, and no foreign key ties them to each other,
-- so that they can be spread over several servers later.
CREATE TABLE run (
    site_id int NOT NULL,
    due_at timestamptz NOT NULL,
    id uuid NOT NULL,
    journey_id int NOT NULL,
    location_id int NOT NULL,
    started_at timestamptz NOT NULL,
    -- 0 passed, 1 slow, 2 failed, 3 unmeasured
    outcome smallint NOT NULL,
    duration_ms float8 NOT NULL,
    -- durations of the steps that were played, in order
    steps_ms float4[] NOT NULL,
    trouble text,
    runner text NOT NULL,
    browser text NOT NULL,
    PRIMARY KEY (site_id, due_at, id)
) PARTITION BY RANGE (due_at);
CREATE INDEX ON run (journey_id, location_id, due_at);
CREATE INDEX ON run (id);
-- Goals count months of runs: answered from the index alone.
CREATE INDEX ON run (journey_id, due_at) INCLUDE (location_id, outcome);
-- The time strip asks for the hours in which anything failed.
CREATE INDEX ON run (site_id, due_at) WHERE outcome = 2;

CREATE TABLE run_record (
    site_id int NOT NULL,
    due_at timestamptz NOT NULL,
    run_id uuid NOT NULL,
    record json COMPRESSION lz4 NOT NULL,
    PRIMARY KEY (site_id, due_at, run_id)
) PARTITION BY RANGE (due_at);

CREATE TABLE picture (
    site_id int NOT NULL,
    due_at timestamptz NOT NULL,
    run_id uuid NOT NULL,
    step smallint NOT NULL,
    mime text NOT NULL,
    image bytea NOT NULL,
    PRIMARY KEY (site_id, due_at, run_id, step)
) PARTITION BY RANGE (due_at);

CREATE TABLE page_view (
    site_id int NOT NULL,
    at timestamptz NOT NULL,
    id uuid NOT NULL,
    seq int NOT NULL,
    visit uuid NOT NULL,
    received_at timestamptz NOT NULL,
    family text NOT NULL,
    path text NOT NULL,
    device text NOT NULL,
    country text NOT NULL,
    browser text NOT NULL,
    os text NOT NULL,
    connection text NOT NULL,
    -- masked before it came here
    ip inet NOT NULL,
    lcp float4,
    inp float4,
    cls float4,
    fcp float4,
    ttfb float4,
    load float4,
    dns float4,
    connect float4,
    abandoned boolean NOT NULL,
    blank boolean NOT NULL,
    errors int NOT NULL,
    error text,
    PRIMARY KEY (site_id, at, id)
) PARTITION BY RANGE (at);

-- Hours of page views that have changed since they were last rolled up.
CREATE TABLE dirty_hour (
    site_id int NOT NULL,
    hour timestamptz NOT NULL,
    marked_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (site_id, hour)
);

CREATE TABLE page_view_hour (
    site_id int NOT NULL,
    attribute text NOT NULL,
    hour timestamptz NOT NULL,
    value text NOT NULL,
    page_views bigint NOT NULL,
    abandoned bigint NOT NULL,
    blank bigint NOT NULL,
    with_errors bigint NOT NULL,
    -- counts by rating and sketch of each vital
    lcp bytea NOT NULL,
    inp bytea NOT NULL,
    cls bytea NOT NULL,
    fcp bytea NOT NULL,
    ttfb bytea NOT NULL,
    PRIMARY KEY (site_id, attribute, hour, value)
);

-- What was turned away, by hour and reason. Site 0: the key belongs to no site.
CREATE TABLE refused (
    site_id int NOT NULL,
    hour timestamptz NOT NULL,
    reason text NOT NULL,
    count bigint NOT NULL,
    PRIMARY KEY (site_id, hour, reason)
);
