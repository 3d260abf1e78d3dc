-- What is watched, what each evaluation said, and the incidents that alerts make together.
CREATE TABLE alert (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id integer NOT NULL REFERENCES site ON DELETE CASCADE,
    name text NOT NULL,
    definition jsonb NOT NULL,
    -- Counts up with every change, so that of two who change it the second is told.
    revision integer NOT NULL DEFAULT 1,
    is_on boolean NOT NULL DEFAULT true,
    silenced_until timestamptz,
    silenced_why text NOT NULL DEFAULT '',
    silenced_by text NOT NULL DEFAULT '',
    team_id integer REFERENCES team ON DELETE SET NULL,
    instructions text NOT NULL DEFAULT '',
    link text NOT NULL DEFAULT '',
    author text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now(),
    -- How it stands after the last evaluation, and up to when it has been evaluated.
    state jsonb NOT NULL DEFAULT '{}',
    evaluated_to timestamptz NOT NULL,
    UNIQUE (site_id, name)
);
CREATE INDEX ON alert (evaluated_to) WHERE is_on;

CREATE TABLE alert_evaluation (
    alert_id integer NOT NULL REFERENCES alert ON DELETE CASCADE,
    at timestamptz NOT NULL,
    value double precision,
    samples bigint NOT NULL,
    verdict smallint NOT NULL,
    -- Done later than it was due: the watch had not looked.
    is_late boolean NOT NULL DEFAULT false,
    PRIMARY KEY (alert_id, at)
);
CREATE INDEX ON alert_evaluation (at);

CREATE TABLE incident (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id integer NOT NULL REFERENCES site ON DELETE CASCADE,
    about jsonb NOT NULL,
    title text NOT NULL,
    -- The worst that it came to, and how bad it is now.
    severity text NOT NULL CHECK (severity IN ('warning', 'critical')),
    now_severity text CHECK (now_severity IN ('warning', 'critical')),
    -- The first sample beyond a level, the evaluation that opened it, and when that was done.
    since timestamptz NOT NULL,
    opened_at timestamptz NOT NULL,
    noticed_at timestamptz NOT NULL,
    cleared_at timestamptz,
    reopened integer NOT NULL DEFAULT 0,
    acknowledged_at timestamptz,
    acknowledged_by text,
    closed_at timestamptz,
    closed_by text,
    is_rehearsal boolean NOT NULL DEFAULT false
);
CREATE INDEX ON incident (site_id, opened_at);
CREATE INDEX ON incident (site_id) WHERE cleared_at IS NULL;

-- Each time that an alert was open, with what it said then.
CREATE TABLE incident_alert (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    incident_id integer NOT NULL REFERENCES incident ON DELETE CASCADE,
    alert_id integer REFERENCES alert ON DELETE SET NULL,
    name text NOT NULL,
    definition jsonb NOT NULL,
    severity text NOT NULL CHECK (severity IN ('warning', 'critical')),
    since timestamptz NOT NULL,
    opened_at timestamptz NOT NULL,
    cleared_at timestamptz,
    -- What the measure was when it opened, of how many samples; it stays as it was told.
    value double precision,
    samples bigint NOT NULL DEFAULT 0
);
CREATE INDEX ON incident_alert (incident_id);
CREATE UNIQUE INDEX ON incident_alert (alert_id) WHERE cleared_at IS NULL;

CREATE TABLE incident_event (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    incident_id integer NOT NULL REFERENCES incident ON DELETE CASCADE,
    at timestamptz NOT NULL,
    what text NOT NULL CHECK (what IN
        ('opened', 'joined', 'worsened', 'eased', 'left', 'cleared', 'reopened', 'acknowledged', 'note', 'closed')),
    says text NOT NULL DEFAULT '',
    author text NOT NULL DEFAULT ''
);
CREATE INDEX ON incident_event (incident_id, at);

-- What a form called the beginning is the one that the API means.
UPDATE goal_version SET from_at = 'epoch' WHERE from_at = '2000-01-01T00:00:00Z';
