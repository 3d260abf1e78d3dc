-- Signing in by a provider of OpenID Connect: who somebody is there, what was begun, and what groups give.
ALTER TABLE person
    ADD COLUMN issuer text,
    ADD COLUMN subject text,
    -- The groups that they were in when they signed in last.
    ADD COLUMN groups text[] NOT NULL DEFAULT '{}',
    ADD UNIQUE (issuer, subject),
    ADD CHECK ((issuer IS NULL) = (subject IS NULL));

CREATE TABLE provider_sign_in (
    -- SHA-256 of what comes back with the answer, and of what the cookie of the browser that began holds.
    state bytea PRIMARY KEY,
    browser bytea NOT NULL,
    nonce text NOT NULL,
    verifier text NOT NULL,
    -- Where whoever it is wanted to go.
    way_on text NOT NULL,
    -- The session whose owner proves again who they are.
    session uuid,
    begun_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON provider_sign_in (begun_at);

-- Exactly one of what a group may give.
CREATE TABLE group_rule (
    id serial PRIMARY KEY,
    group_name text NOT NULL,
    is_administrator boolean NOT NULL DEFAULT false,
    sees_people boolean NOT NULL DEFAULT false,
    site_id integer REFERENCES site ON DELETE CASCADE,
    role text CHECK (role IN ('reader', 'editor')),
    team_id integer REFERENCES team ON DELETE CASCADE,
    CHECK (num_nonnulls(site_id, team_id) + is_administrator::integer + sees_people::integer = 1),
    CHECK ((site_id IS NULL) = (role IS NULL)),
    UNIQUE NULLS NOT DISTINCT (group_name, is_administrator, sees_people, site_id, role, team_id)
);
