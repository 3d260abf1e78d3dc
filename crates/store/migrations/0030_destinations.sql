-- Gateways of short messages and calls, what keeps tickets, what can mend; and texts of one's own.
ALTER TABLE destination DROP CONSTRAINT destination_kind_check;
ALTER TABLE destination ADD CONSTRAINT destination_kind_check
    CHECK (kind IN ('mail', 'webhook', 'chat', 'gateway', 'ticket', 'repair'));
ALTER TABLE destination ADD COLUMN own_text text NOT NULL DEFAULT '';

-- The ticket that stands for an incident where tickets are kept, as that answered.
CREATE TABLE ticket (
    incident_id integer NOT NULL REFERENCES incident ON DELETE CASCADE,
    destination_id integer NOT NULL REFERENCES destination ON DELETE CASCADE,
    name text NOT NULL,
    link text NOT NULL DEFAULT '',
    PRIMARY KEY (incident_id, destination_id)
);
