-- A view that was taken away can be put back for thirty days; its name is free meanwhile.
ALTER TABLE saved_view ADD COLUMN removed_at timestamptz;
ALTER TABLE saved_view DROP CONSTRAINT saved_view_site_id_name_key;
CREATE UNIQUE INDEX saved_view_of_name ON saved_view (site_id, name) WHERE removed_at IS NULL;
