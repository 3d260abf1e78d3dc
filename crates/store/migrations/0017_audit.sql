-- What something was before it was changed, and after; empty where only that it was done is told.
ALTER TABLE audit ADD COLUMN was text NOT NULL DEFAULT '', ADD COLUMN became text NOT NULL DEFAULT '';
