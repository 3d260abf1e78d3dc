-- Pictures of a run: the one at the end of each step has number 0 and no moment; the film of the step follows.
ALTER TABLE picture ADD COLUMN nth smallint NOT NULL DEFAULT 0;
ALTER TABLE picture ADD COLUMN at_ms float4;
ALTER TABLE picture DROP CONSTRAINT picture_pkey;
ALTER TABLE picture ADD PRIMARY KEY (site_id, due_at, run_id, step, nth);

-- Hours of a whole day in one, made when the day is first read and dropped when one of its hours is rebuilt. `hour`
-- is the day's beginning in UTC.
CREATE TABLE page_view_day (LIKE page_view_hour INCLUDING ALL);
