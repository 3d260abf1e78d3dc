-- A team may own a call list: whoever is not in it does not change who is told.
ALTER TABLE call_list ADD COLUMN team_id integer REFERENCES team ON DELETE SET NULL;
