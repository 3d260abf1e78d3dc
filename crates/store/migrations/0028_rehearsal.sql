-- Alerts that are acted out: fed values beyond a level, through the whole chain, and counted nowhere.
CREATE TABLE rehearsal (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    alert_id integer NOT NULL REFERENCES alert ON DELETE CASCADE,
    severity text NOT NULL CHECK (severity IN ('warning', 'critical')),
    author text NOT NULL,
    begun_at timestamptz NOT NULL,
    -- Evaluations up to here are beyond the level, those after it clear.
    until_at timestamptz NOT NULL,
    state jsonb NOT NULL,
    evaluated_to timestamptz NOT NULL,
    incident_id integer REFERENCES incident ON DELETE SET NULL,
    ended_at timestamptz
);
CREATE UNIQUE INDEX ON rehearsal (alert_id) WHERE ended_at IS NULL;
CREATE INDEX ON rehearsal (alert_id, begun_at);

-- What is open in a rehearsal is no opening of the alert.
ALTER TABLE incident_alert ADD COLUMN rehearsal_id integer REFERENCES rehearsal ON DELETE SET NULL;
CREATE UNIQUE INDEX ON incident_alert (rehearsal_id) WHERE cleared_at IS NULL;
