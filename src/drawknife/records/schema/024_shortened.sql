-- Older services may go on.
-- From which revision on the history is kept, where earlier ones were removed. With the first row here this step is marked
-- as one after which older services may not answer: they would take later models for earlier ones.
CREATE TABLE shortened (
    revision    bigint PRIMARY KEY,             -- the first that can be asked about
    at          timestamptz NOT NULL DEFAULT clock_timestamp(),
    who         text NOT NULL
);
CREATE INDEX ON sign_ins (at);
