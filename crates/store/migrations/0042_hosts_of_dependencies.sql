-- Hosts whose requests are those of a dependency: what it says of itself is put beside what pages see of it.
ALTER TABLE dependency ADD COLUMN hosts text[] NOT NULL DEFAULT '{}';
