-- One limit for a vital of a page family or of the whole site, and who set it when.
DELETE FROM budget a USING budget b
    WHERE a.site_id = b.site_id AND a.family IS NOT DISTINCT FROM b.family AND a.vital = b.vital AND a.id > b.id;
ALTER TABLE budget
    ADD COLUMN author text NOT NULL DEFAULT '',
    ADD COLUMN set_at timestamptz NOT NULL DEFAULT now(),
    ADD CONSTRAINT budget_of_one UNIQUE NULLS NOT DISTINCT (site_id, family, vital);
