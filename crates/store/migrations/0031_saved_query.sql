-- Queries that people keep under a name: what they say, who keeps them, and who used them last.
CREATE TABLE saved_query (
    id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id int NOT NULL REFERENCES site ON DELETE CASCADE,
    name text NOT NULL,
    says text NOT NULL,
    owner text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now(),
    used_at timestamptz,
    used_by text,
    UNIQUE (site_id, name)
);
