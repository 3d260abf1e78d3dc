-- When a run's marks were set, in milliseconds from their step's beginning, by name. Of runs of before it is in their records only.
ALTER TABLE run ADD COLUMN marks jsonb;
ALTER TABLE first_try ADD COLUMN marks jsonb;
