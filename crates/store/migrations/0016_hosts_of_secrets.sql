-- Hosts that a secret may be typed into or sent to, with everything below them; none said: the domains of its site.
ALTER TABLE secret ADD COLUMN hosts text[] NOT NULL DEFAULT '{}';
