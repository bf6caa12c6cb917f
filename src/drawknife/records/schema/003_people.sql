-- Credentials, directories, and what comes from them.

ALTER TABLE groups ADD COLUMN source text NOT NULL DEFAULT 'local';
ALTER TABLE units ADD COLUMN source text NOT NULL DEFAULT 'local';

-- Subjects that a directory no longer has, and that something still names.
CREATE TABLE gone (
    subject_kind text NOT NULL,
    subject_name text COLLATE "C" NOT NULL,
    PRIMARY KEY (subject_kind, subject_name)
);

-- Passwords only as argon2 hashes. Not part of the model: never in a snapshot, a dump, or the journal.
CREATE TABLE passwords (
    account     text COLLATE "C" PRIMARY KEY,
    hash        text NOT NULL,
    changed     timestamptz NOT NULL DEFAULT clock_timestamp(),
    changed_by  text NOT NULL
);

CREATE TABLE public_keys (
    account     text COLLATE "C" NOT NULL,
    fingerprint text NOT NULL,
    kind        text NOT NULL,
    body        text NOT NULL,
    comment     text NOT NULL,
    added       timestamptz NOT NULL DEFAULT clock_timestamp(),
    added_by    text NOT NULL,
    PRIMARY KEY (account, fingerprint)
);

CREATE TABLE directories (
    name        text COLLATE "C" PRIMARY KEY,
    folded      text COLLATE "C" NOT NULL UNIQUE,
    options     text NOT NULL,                  -- as JSON, without the bind password
    secret      bytea                           -- the bind password, encrypted
);

-- The last sync of a directory, and the last that changed or could have changed something.
CREATE TABLE syncs (
    directory   text COLLATE "C" NOT NULL REFERENCES directories (name) ON DELETE CASCADE ON UPDATE CASCADE,
    at          timestamptz NOT NULL DEFAULT clock_timestamp(),
    who         text NOT NULL,
    done        boolean NOT NULL,
    revision    bigint,
    report      text NOT NULL,                  -- as JSON
    PRIMARY KEY (directory, at)
);
