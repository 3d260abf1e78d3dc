-- What a run fetched: requests, bytes, bytes of third parties, errors of scripts. Of runs of before it is not known.
ALTER TABLE run ADD COLUMN counts bigint[];
ALTER TABLE first_try ADD COLUMN counts bigint[];
