-- A visit is found by its id, and page views with script errors without reading the others.
CREATE INDEX ON page_view (visit);
CREATE INDEX ON page_view (site_id, at) WHERE errors > 0;
