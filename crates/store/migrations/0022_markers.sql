-- A marker tells of a release, a change or a note, for one site or for all, and can be taken back for a while after it was
-- taken away.
ALTER TABLE marker
    ALTER COLUMN site_id DROP NOT NULL,
    ADD COLUMN kind text NOT NULL DEFAULT 'note' CHECK (kind IN ('release', 'change', 'note')),
    ADD COLUMN version text NOT NULL DEFAULT '',
    ADD COLUMN link text NOT NULL DEFAULT '',
    ADD COLUMN author text NOT NULL DEFAULT '',
    ADD COLUMN edits integer NOT NULL DEFAULT 0,
    ADD COLUMN removed_at timestamptz;
CREATE INDEX ON marker (at) WHERE site_id IS NULL;
