-- Page views come in as one text each and are filed into sheets: an hour by columns. The rows are kept until the day is
-- long over, so that an hour can be filed anew when a late beacon comes.
SET LOCAL statement_timeout = 0;
ALTER TABLE page_view RENAME TO old_page_view;
DO $$
DECLARE
    part record;
BEGIN
    FOR part IN SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
                WHERE i.inhparent = 'old_page_view'::regclass LOOP
        EXECUTE format('ALTER TABLE %I RENAME TO %I', part.relname, 'old_' || part.relname);
    END LOOP;
END $$;

CREATE TABLE page_view (
    site_id int NOT NULL,
    at timestamptz NOT NULL,
    id uuid NOT NULL,
    seq int NOT NULL,
    -- JSON; nobody but us writes it, so the database need not read it
    view text COMPRESSION lz4 NOT NULL,
    CONSTRAINT page_view_key PRIMARY KEY (site_id, at, id)
) PARTITION BY RANGE (at);
DO $$
DECLARE
    part record;
BEGIN
    FOR part IN SELECT substr(c.relname, 5) AS name, pg_get_expr(c.relpartbound, c.oid) AS bound
                FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
                WHERE i.inhparent = 'old_page_view'::regclass LOOP
        EXECUTE format('CREATE TABLE %I PARTITION OF page_view %s', part.name, part.bound);
    END LOOP;
END $$;
INSERT INTO page_view
SELECT site_id, at, id, seq, json_strip_nulls(json_build_object(
    'at', at, 'received_at', received_at, 'family', family, 'path', path, 'ip', host(ip), 'country', country,
    'browser', browser, 'os', os, 'beacon', json_build_object(
        'id', id, 'seq', seq, 'at_ms', (extract(epoch FROM at) * 1000)::bigint,
        'sent_ms', (extract(epoch FROM received_at) * 1000)::bigint, 'visit', visit, 'url', path, 'device', device,
        'connection', connection, 'lcp', lcp, 'inp', inp, 'cls', cls, 'fcp', fcp, 'ttfb', ttfb, 'load', load,
        'dns', dns, 'connect', connect, 'abandoned', abandoned, 'blank', blank, 'errors', errors, 'error', error, 'more', CASE WHEN errors > 0 AND error IS NOT NULL THEN
            json_build_object('happened', json_build_array(json_build_object('what', 'error', 'at', 0, 'name', error)))
        END)))::text
FROM old_page_view;
DROP TABLE old_page_view;

CREATE TABLE sheet (
    site_id int NOT NULL,
    -- 'view': page views; 'told': what happened on them
    what text NOT NULL,
    name text NOT NULL,
    hour timestamptz NOT NULL,
    packed bytea COMPRESSION lz4 NOT NULL,
    PRIMARY KEY (site_id, what, name, hour)
);

-- Everything is rolled up anew, by more attributes than before.
TRUNCATE page_view_hour, page_view_day;
INSERT INTO dirty_hour (site_id, hour) SELECT DISTINCT site_id, date_trunc('hour', at) FROM page_view
    ON CONFLICT (site_id, hour) DO UPDATE SET marked_at = clock_timestamp();

ALTER TABLE site
    -- what is known of a person leaves after so many days; figures stay
    ADD COLUMN keep_people_days int NOT NULL DEFAULT 60 CHECK (keep_people_days BETWEEN 1 AND 800);
