-- By which key a secret is sealed: the first eight hexadecimal digits of its SHA-256; unknown for those of before.
ALTER TABLE secret ADD COLUMN key_id text;
