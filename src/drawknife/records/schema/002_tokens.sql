-- Who may use the service. Tokens are random and kept only as SHA-256 digests.

CREATE SEQUENCE token_changes;

CREATE TABLE tokens (
    digest      bytea PRIMARY KEY,
    name        text NOT NULL,
    kind        text NOT NULL CHECK (kind IN ('token', 'session', 'code')),
    created     timestamptz NOT NULL DEFAULT clock_timestamp(),
    expires     timestamptz,
    change      bigint NOT NULL DEFAULT nextval('token_changes')
);
