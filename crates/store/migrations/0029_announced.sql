-- What came of an announcement: the incident that it holds open and what was told there last, and of what is to come the beginning
-- that was reminded of.
ALTER TABLE announcement
    ADD COLUMN incident_id integer REFERENCES incident ON DELETE SET NULL,
    ADD COLUMN told_as text NOT NULL DEFAULT '',
    ADD COLUMN reminded_from timestamptz;
CREATE INDEX ON announcement (incident_id) WHERE incident_id IS NOT NULL;
-- What ended before anybody looked for it is old news.
UPDATE announcement SET reminded_from = from_at;

ALTER TABLE notice DROP CONSTRAINT notice_what_check;
ALTER TABLE notice ADD CONSTRAINT notice_what_check
    CHECK (what IN ('opened', 'worsened', 'cleared', 'reopened', 'undelivered', 'reminded', 'test'));
