-- How many records a runner keeps that no server has taken yet, as it says when it asks for work.
ALTER TABLE runner ADD COLUMN kept integer NOT NULL DEFAULT 0;
