-- Whom incidents are told to, and each message about them: written with what it tells of, sent by whoever comes to it.
CREATE TABLE destination (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id integer NOT NULL REFERENCES site ON DELETE CASCADE,
    name text NOT NULL,
    kind text NOT NULL CHECK (kind IN ('mail', 'webhook', 'chat')),
    address text NOT NULL,
    -- What its messages are signed with, sealed.
    secret bytea,
    author text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (site_id, name)
);

CREATE TABLE call_list (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id integer NOT NULL REFERENCES site ON DELETE CASCADE,
    name text NOT NULL,
    steps jsonb NOT NULL,
    -- Alerts that name no list are told to this one.
    is_usual boolean NOT NULL DEFAULT false,
    author text NOT NULL,
    UNIQUE (site_id, name)
);
CREATE UNIQUE INDEX ON call_list (site_id) WHERE is_usual;

ALTER TABLE alert ADD COLUMN warning_list integer REFERENCES call_list ON DELETE SET NULL;
ALTER TABLE alert ADD COLUMN critical_list integer REFERENCES call_list ON DELETE SET NULL;

CREATE TABLE notice (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    -- The same however often it is tried: whoever gets it twice can tell.
    key uuid NOT NULL UNIQUE DEFAULT gen_random_uuid(),
    site_id integer NOT NULL REFERENCES site ON DELETE CASCADE,
    -- None for a test of a destination.
    incident_id integer REFERENCES incident ON DELETE CASCADE,
    destination_id integer REFERENCES destination ON DELETE SET NULL,
    destination text NOT NULL,
    what text NOT NULL CHECK (what IN ('opened', 'worsened', 'cleared', 'reopened', 'undelivered', 'test')),
    severity text NOT NULL CHECK (severity IN ('warning', 'critical')),
    says text NOT NULL,
    at timestamptz NOT NULL,
    due_at timestamptz NOT NULL,
    unless_acknowledged boolean NOT NULL DEFAULT false,
    state text NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'delivered', 'dropped', 'given_up')),
    -- Tries that failed; no other before this moment.
    failed integer NOT NULL DEFAULT 0,
    next_at timestamptz NOT NULL,
    told_at timestamptz
);
CREATE INDEX ON notice (next_at) WHERE state = 'waiting';
CREATE INDEX ON notice (incident_id);

CREATE TABLE notice_attempt (
    notice_id bigint NOT NULL REFERENCES notice ON DELETE CASCADE,
    at timestamptz NOT NULL DEFAULT clock_timestamp(),
    is_delivered boolean NOT NULL,
    says text NOT NULL
);
CREATE INDEX ON notice_attempt (notice_id);
