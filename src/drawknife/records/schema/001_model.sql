-- The model as it stands, and who changed it.
--
-- Names compare by bytes here (COLLATE "C"); that they are unique whatever their case is seen to by
-- the core before anything is written, and held by `folded`. Subjects are written as kind and name
-- without a foreign key: one that a directory no longer knows stays, matches nobody, and is reported.
-- Foreign keys are deferred, so that a row may be replaced within a transaction. The three tables that
-- can have a hundred thousand rows have none: checking them took longer than all the rest of a load,
-- and what they hold is written from one sound model in one transaction.

CREATE TABLE revisions (
    number      bigint PRIMARY KEY,
    at          timestamptz NOT NULL DEFAULT clock_timestamp(),
    changed     text[] NOT NULL            -- parts of the model, as snapshots.py reads them
);

CREATE TABLE journal (
    revision    bigint PRIMARY KEY REFERENCES revisions (number),
    at          timestamptz NOT NULL DEFAULT clock_timestamp(),
    who         text NOT NULL,
    what        text NOT NULL,
    before      jsonb NOT NULL,
    after       jsonb NOT NULL
);

CREATE TABLE units (
    path        text COLLATE "C" PRIMARY KEY
);

CREATE TABLE accounts (
    name        text COLLATE "C" PRIMARY KEY,
    folded      text COLLATE "C" NOT NULL UNIQUE,
    kind        text NOT NULL CHECK (kind IN ('person', 'service', 'anonymous')),
    display     text,
    mail        text,
    unit        text COLLATE "C" REFERENCES units (path) DEFERRABLE INITIALLY DEFERRED,
    home_store  text COLLATE "C",
    home_path   text COLLATE "C",
    enabled     boolean NOT NULL,
    expires     date,
    methods     text[] NOT NULL,
    source      text NOT NULL
);

CREATE TABLE groups (
    name        text COLLATE "C" PRIMARY KEY,
    folded      text COLLATE "C" NOT NULL UNIQUE
);

CREATE TABLE memberships (
    group_name  text COLLATE "C" NOT NULL,
    member_kind text NOT NULL CHECK (member_kind IN ('account', 'group', 'unit')),
    member_name text COLLATE "C" NOT NULL,
    PRIMARY KEY (group_name, member_kind, member_name)
);

CREATE TABLE stores (
    name        text COLLATE "C" PRIMARY KEY,
    folded      text COLLATE "C" NOT NULL UNIQUE,
    root        text,
    baseline    text NOT NULL CHECK (baseline IN ('open', 'closed')),
    capacity    bigint CHECK (capacity >= 0)
);

CREATE TABLE folders (
    store       text COLLATE "C" NOT NULL,
    path        text COLLATE "C" NOT NULL,
    owner       text COLLATE "C",
    sealed      boolean NOT NULL,
    PRIMARY KEY (store, path)
);

CREATE TABLE entries (
    store        text COLLATE "C" NOT NULL,
    path         text COLLATE "C" NOT NULL,
    effect       text NOT NULL CHECK (effect IN ('allow', 'deny', 'forbid')),
    subject_kind text NOT NULL,
    subject_name text COLLATE "C" NOT NULL,
    rights       text NOT NULL,
    reach        text NOT NULL CHECK (reach IN ('tree', 'here', 'below', 'children')),
    PRIMARY KEY (store, path, effect, subject_kind, subject_name, rights, reach)
);

CREATE TABLE virtual_paths (
    id          text COLLATE "C" PRIMARY KEY,   -- a digest of all that the virtual path says
    path        text COLLATE "C" NOT NULL,
    leads_to    text COLLATE "C" NOT NULL,
    listing     text NOT NULL CHECK (listing IN ('reachable', 'all'))
);

CREATE TABLE grants (
    virtual_path text COLLATE "C" NOT NULL REFERENCES virtual_paths (id) DEFERRABLE INITIALLY DEFERRED,
    subject_kind text NOT NULL,
    subject_name text COLLATE "C" NOT NULL,
    rights       text NOT NULL,
    PRIMARY KEY (virtual_path, subject_kind, subject_name, rights)
);

CREATE TABLE endpoints (
    name          text COLLATE "C" PRIMARY KEY,
    folded        text COLLATE "C" NOT NULL UNIQUE,
    protocol      text NOT NULL CHECK (protocol IN ('ftp', 'ftps', 'sftp')),
    address       text NOT NULL,
    port          integer NOT NULL CHECK (port BETWEEN 1 AND 65535),
    passive_first integer CHECK (passive_first BETWEEN 1 AND 65535),
    passive_last  integer CHECK (passive_last BETWEEN passive_first AND 65535),
    tls           text CHECK (tls IN ('off', 'optional', 'required')),
    host_names    text[] NOT NULL,
    enabled       boolean NOT NULL
);

CREATE TABLE endpoint_entries (
    endpoint     text COLLATE "C" NOT NULL REFERENCES endpoints (name) DEFERRABLE INITIALLY DEFERRED,
    effect       text NOT NULL CHECK (effect IN ('allow', 'deny', 'forbid')),
    subject_kind text NOT NULL,
    subject_name text COLLATE "C" NOT NULL,
    rights       text NOT NULL,
    PRIMARY KEY (endpoint, effect, subject_kind, subject_name, rights)
);

CREATE TABLE settings (
    subject_kind text NOT NULL,
    subject_name text COLLATE "C" NOT NULL,
    name         text NOT NULL,
    value        text NOT NULL,                 -- as JSON
    PRIMARY KEY (subject_kind, subject_name, name)
);

CREATE TABLE quotas (
    name         text COLLATE "C" PRIMARY KEY,
    folded       text COLLATE "C" NOT NULL UNIQUE,
    folder_store text COLLATE "C",
    folder_path  text COLLATE "C",
    hard_bytes   bigint,
    soft_bytes   bigint,
    hard_files   bigint,
    soft_files   bigint,
    grace        bigint
);

CREATE TABLE quota_subjects (
    quota        text COLLATE "C" NOT NULL REFERENCES quotas (name) DEFERRABLE INITIALLY DEFERRED,
    subject_kind text NOT NULL,
    subject_name text COLLATE "C" NOT NULL,
    PRIMARY KEY (quota, subject_kind, subject_name)
);

CREATE TABLE usage (
    store       text COLLATE "C" NOT NULL,
    path        text COLLATE "C" NOT NULL,
    owner       text COLLATE "C" NOT NULL,      -- empty: nobody known
    bytes       bigint NOT NULL CHECK (bytes >= 0),
    files       bigint NOT NULL CHECK (files >= 0),
    PRIMARY KEY (store, path, owner)
);
