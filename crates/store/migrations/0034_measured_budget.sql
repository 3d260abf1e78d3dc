-- Limits on any measure, beside those of vitals.
CREATE TABLE measured_budget (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id integer NOT NULL REFERENCES site ON DELETE CASCADE,
    measured text NOT NULL CHECK (length(measured) BETWEEN 1 AND 2000),
    limit_value double precision NOT NULL,
    author text NOT NULL,
    set_at timestamptz NOT NULL DEFAULT now(),
    CONSTRAINT measured_budget_of_one UNIQUE (site_id, measured)
);
