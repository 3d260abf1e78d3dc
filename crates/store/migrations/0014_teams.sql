-- Teams own journeys, and with them what is promised of those; whoever is in one changes what it owns.
CREATE TABLE team (
    id serial PRIMARY KEY,
    name text NOT NULL UNIQUE
);

CREATE TABLE team_member (
    team_id integer NOT NULL REFERENCES team ON DELETE CASCADE,
    person_id integer NOT NULL REFERENCES person ON DELETE CASCADE,
    PRIMARY KEY (team_id, person_id)
);
CREATE INDEX ON team_member (person_id);

ALTER TABLE journey ADD COLUMN team_id integer REFERENCES team ON DELETE SET NULL;
-- What a new journey of the site belongs to.
ALTER TABLE site ADD COLUMN team_id integer REFERENCES team ON DELETE SET NULL;

-- Owners were texts, and who may save a script a list of names that nobody proved. Owners become teams; whoever could
-- change what they owned is in them, until an administrator says who is.
INSERT INTO team (name) SELECT DISTINCT owner FROM journey WHERE owner <> '';
UPDATE journey SET team_id = team.id FROM team WHERE team.name = journey.owner;
INSERT INTO team_member SELECT DISTINCT j.team_id, m.person_id FROM journey j
    JOIN member m ON m.site_id = j.site_id AND m.role = 'editor' WHERE j.team_id IS NOT NULL;
ALTER TABLE journey DROP COLUMN owner, DROP COLUMN editors;
