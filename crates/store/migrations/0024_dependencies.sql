-- What a site stands on and others look after: the states that they post, each good until it expires, and what they announce.
CREATE TABLE dependency (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id integer NOT NULL REFERENCES site ON DELETE CASCADE,
    slug text NOT NULL,
    name text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (site_id, slug)
);

CREATE TABLE dependency_state (
    dependency_id integer NOT NULL REFERENCES dependency ON DELETE CASCADE,
    at timestamptz NOT NULL,
    state text NOT NULL CHECK (state IN ('ok', 'degraded', 'down', 'unknown')),
    says text NOT NULL DEFAULT '',
    link text NOT NULL DEFAULT '',
    expires_at timestamptz NOT NULL,
    author text NOT NULL,
    PRIMARY KEY (dependency_id, at)
);

CREATE TABLE announcement (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    dependency_id integer NOT NULL REFERENCES dependency ON DELETE CASCADE,
    -- What whoever announces calls it: later words about it have the same.
    subject text NOT NULL,
    kind text NOT NULL CHECK (kind IN ('outage', 'planned', 'advisory')),
    phase text NOT NULL CHECK (phase IN ('announced', 'started', 'moved', 'cancelled', 'ended')),
    title text NOT NULL,
    says text NOT NULL DEFAULT '',
    link text NOT NULL DEFAULT '',
    from_at timestamptz NOT NULL,
    to_at timestamptz,
    told_at timestamptz NOT NULL,
    author text NOT NULL,
    UNIQUE (dependency_id, subject)
);

-- Events that came already: the same again changes nothing.
CREATE TABLE event_taken (
    site_id integer NOT NULL REFERENCES site ON DELETE CASCADE,
    source text NOT NULL,
    event_id text NOT NULL,
    at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (site_id, source, event_id)
);
CREATE INDEX ON event_taken (at);
