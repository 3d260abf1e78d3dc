-- Whole days that were left of the certificates that a run saw, of the one that ends first; negative once that had.
ALTER TABLE run ADD COLUMN certificate_days integer;
ALTER TABLE first_try ADD COLUMN certificate_days integer;
