-- Older services may go on.
-- What came back when a report was signed, as it was; links by which somebody without an account here signs one; why a step
-- of a draft was written, where that is known.
ALTER TABLE reports ADD COLUMN returned bytea;
CREATE TABLE review_links (
    digest        bytea PRIMARY KEY,              -- SHA-256 of the code
    report        bigint NOT NULL REFERENCES reports (number) ON DELETE CASCADE,
    address       text NOT NULL,                  -- the mail address that it was sent to
    administrator text COLLATE "C" NOT NULL REFERENCES administrators (name) ON DELETE CASCADE ON UPDATE CASCADE,
    sent          timestamptz NOT NULL DEFAULT clock_timestamp(),
    expires       timestamptz NOT NULL
);
CREATE INDEX ON review_links (report);
ALTER TABLE draft_steps ADD COLUMN why text;
