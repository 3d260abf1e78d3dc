-- People, what they may do on which site, their sessions, links that let one in once, tries at signing in, and what was done.
CREATE TABLE person (
    id serial PRIMARY KEY,
    -- In lower case.
    email text NOT NULL UNIQUE,
    name text NOT NULL,
    -- Argon2id in the PHC string format; NULL until it is chosen.
    password text,
    is_administrator boolean NOT NULL DEFAULT false,
    -- May open single visits and look for persons.
    sees_people boolean NOT NULL DEFAULT false,
    made_at timestamptz NOT NULL DEFAULT now(),
    -- Since when they may not sign in any more.
    gone_at timestamptz
);

CREATE TABLE member (
    person_id integer NOT NULL REFERENCES person ON DELETE CASCADE,
    site_id integer NOT NULL REFERENCES site ON DELETE CASCADE,
    role text NOT NULL CHECK (role IN ('reader', 'editor')),
    PRIMARY KEY (person_id, site_id)
);

CREATE TABLE session (
    -- SHA-256 of what the cookie holds.
    token bytea PRIMARY KEY,
    id uuid NOT NULL UNIQUE,
    person_id integer NOT NULL REFERENCES person ON DELETE CASCADE,
    begun_at timestamptz NOT NULL DEFAULT now(),
    seen_at timestamptz NOT NULL DEFAULT now(),
    -- When the password was typed last.
    proved_at timestamptz NOT NULL DEFAULT now(),
    browser text NOT NULL,
    address inet NOT NULL
);
CREATE INDEX ON session (person_id);

CREATE TABLE door_link (
    -- SHA-256 of what the link holds.
    token bytea PRIMARY KEY,
    -- Whose password it sets; NULL: it makes the first administrator.
    person_id integer REFERENCES person ON DELETE CASCADE,
    made_at timestamptz NOT NULL DEFAULT now(),
    ends_at timestamptz NOT NULL
);

CREATE TABLE sign_in_try (
    -- An account, or a network.
    whose text PRIMARY KEY,
    failures integer NOT NULL,
    last_at timestamptz NOT NULL
);

CREATE TABLE audit (
    at timestamptz NOT NULL DEFAULT clock_timestamp(),
    person_id integer,
    -- As they were called then.
    name text NOT NULL,
    address inet,
    what text NOT NULL,
    which text NOT NULL
);
CREATE INDEX ON audit (at);
