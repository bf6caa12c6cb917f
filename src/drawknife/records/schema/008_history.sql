-- What a change renamed, as JSON: [[kind, old, new], …]; null: nothing, or it is not known of older lines.
ALTER TABLE journal ADD COLUMN renames text;
CREATE INDEX ON journal (at);
CREATE INDEX ON item_changes (section, name);

-- Credentials that went with their account, so that they come back with it; as the hashes and public keys they are. For
-- an account that a revision renamed, `renamed_to` says who has them now, and nothing is kept.
CREATE TABLE kept_credentials (
    revision    bigint NOT NULL,
    at          timestamptz NOT NULL DEFAULT clock_timestamp(),
    account     text COLLATE "C" NOT NULL,
    renamed_to  text COLLATE "C",
    password    jsonb,                          -- hash, changed, changed_by
    keys        jsonb NOT NULL DEFAULT '[]',    -- fingerprint, kind, body, comment, added, added_by
    PRIMARY KEY (revision, account)
);
