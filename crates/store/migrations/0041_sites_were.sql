-- Names that sites had in addresses: whoever kept one is led to where the site is now. A site of today comes before.
CREATE TABLE site_was (
    slug text PRIMARY KEY,
    site_id integer NOT NULL REFERENCES site ON DELETE CASCADE
);
