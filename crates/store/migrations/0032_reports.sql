-- Reports: what each is about and when it is issued next, and every issue as it was written, which nobody changes any more.
CREATE TABLE report (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id integer NOT NULL REFERENCES site ON DELETE CASCADE,
    name text NOT NULL,
    definition jsonb NOT NULL,
    -- Counts up with each change, so that two people who change it at once notice.
    version integer NOT NULL DEFAULT 1,
    list_id integer REFERENCES call_list ON DELETE SET NULL,
    author text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now(),
    -- The moment of the next issue, and until when whoever makes it has its turn.
    next_at timestamptz,
    leased_until timestamptz,
    -- It is issued no more; what was issued stays.
    ended_at timestamptz
);
CREATE UNIQUE INDEX ON report (site_id, name) WHERE ended_at IS NULL;
CREATE INDEX ON report (next_at) WHERE ended_at IS NULL AND next_at IS NOT NULL;

CREATE TABLE report_issue (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    report_id integer NOT NULL REFERENCES report ON DELETE CASCADE,
    site_id integer NOT NULL REFERENCES site ON DELETE CASCADE,
    -- The how manieth of this time.
    number integer NOT NULL,
    from_at timestamptz NOT NULL,
    to_at timestamptz NOT NULL,
    made_at timestamptz NOT NULL,
    author text NOT NULL,
    -- As it was written, byte for byte, and its SHA-256.
    content text NOT NULL,
    checksum text NOT NULL,
    UNIQUE (report_id, from_at, to_at, number)
);
CREATE INDEX ON report_issue (site_id, made_at);

ALTER TABLE notice ADD COLUMN issue_id integer REFERENCES report_issue ON DELETE CASCADE;
ALTER TABLE notice DROP CONSTRAINT notice_what_check;
ALTER TABLE notice ADD CONSTRAINT notice_what_check
    CHECK (what IN ('opened', 'worsened', 'cleared', 'reopened', 'undelivered', 'reminded', 'report', 'test'));
