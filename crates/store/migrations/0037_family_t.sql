-- T of Apdex of page families that have one of their own, in seconds.
ALTER TABLE site ADD family_t jsonb NOT NULL DEFAULT '{}';
