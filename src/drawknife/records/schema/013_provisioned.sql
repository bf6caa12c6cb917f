-- What is sent by SCIM (RFC 7644) for a directory that is provisioned: its people and groups, as they were sent.
CREATE TABLE provisioned (
    directory   text COLLATE "C" NOT NULL REFERENCES directories (name) ON DELETE CASCADE,
    id          uuid NOT NULL,
    kind        text COLLATE "C" NOT NULL CHECK (kind IN ('User', 'Group')),
    called      text COLLATE "C" NOT NULL,          -- its name, in the form in which names are compared
    external_id text COLLATE "C",
    body        jsonb NOT NULL,
    made        timestamptz NOT NULL DEFAULT clock_timestamp(),
    changed     timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (directory, id),
    UNIQUE (directory, kind, called)
);
CREATE INDEX provisioned_external ON provisioned (directory, kind, external_id);
-- A token that provisions a directory does nothing else.
ALTER TABLE tokens ADD COLUMN directory text COLLATE "C" REFERENCES directories (name) ON DELETE CASCADE;
