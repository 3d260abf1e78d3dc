-- What is collected from visitors, as the site wants it; see Collecting in the core.
ALTER TABLE site ADD COLUMN collecting jsonb NOT NULL DEFAULT '{}';

-- Page families that visits are expected to go through, in order.
CREATE TABLE funnel (
    id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id int NOT NULL REFERENCES site,
    name text NOT NULL,
    steps text[] NOT NULL CHECK (cardinality(steps) BETWEEN 2 AND 10),
    within_s int NOT NULL CHECK (within_s BETWEEN 60 AND 86400),
    UNIQUE (site_id, name)
);

-- The newest of what was turned away for this reason in that hour, in words.
ALTER TABLE refused ADD COLUMN example text NOT NULL DEFAULT '', ADD COLUMN last_at timestamptz;
