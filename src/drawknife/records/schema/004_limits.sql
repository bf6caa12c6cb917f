-- The way in, and the limits.

ALTER TABLE endpoints ADD COLUMN certificate text, ADD COLUMN certificate_key text;

-- Who is never admitted at an endpoint, and who are the only ones.
CREATE TABLE endpoint_lists (
    endpoint     text COLLATE "C" NOT NULL REFERENCES endpoints (name) DEFERRABLE INITIALLY DEFERRED,
    list         text NOT NULL CHECK (list IN ('never', 'only')),
    subject_kind text NOT NULL,
    subject_name text COLLATE "C" NOT NULL,
    PRIMARY KEY (endpoint, list, subject_kind, subject_name)
);

ALTER TABLE quotas ADD COLUMN bytes_over_since timestamptz, ADD COLUMN files_over_since timestamptz;

CREATE TABLE lockouts (
    of           text PRIMARY KEY CHECK (of IN ('account', 'address')),
    failures     integer NOT NULL,
    within       bigint NOT NULL,               -- seconds
    lasts        bigint NOT NULL
);

-- How networks reach each other: a line of the model file each.
CREATE TABLE network_lines (
    section      text NOT NULL CHECK (section IN ('inside', 'openings', 'forwardings')),
    line         text COLLATE "C" NOT NULL,
    PRIMARY KEY (section, line)
);

-- What transfer servers report of sign-ins: failures and successes for lockout, sessions that began and ended.
CREATE TABLE sign_ins (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at           timestamptz NOT NULL,
    what         text NOT NULL CHECK (what IN ('failed', 'began', 'ended')),
    account      text NOT NULL,
    folded       text NOT NULL,
    address      text NOT NULL,
    endpoint     text,
    session      text
);
CREATE INDEX ON sign_ins (folded, at);
CREATE INDEX ON sign_ins (address, at);

-- Locks that an administrator has lifted: what was before does not count any more.
CREATE TABLE lifted (
    of           text NOT NULL,
    name         text NOT NULL,
    at           timestamptz NOT NULL DEFAULT clock_timestamp(),
    who          text NOT NULL,
    PRIMARY KEY (of, name)
);

CREATE TABLE censuses (
    store        text COLLATE "C" NOT NULL,
    at           timestamptz NOT NULL,
    who          text NOT NULL,
    measured     text NOT NULL CHECK (measured IN ('length', 'disk')),
    bytes        bigint NOT NULL,
    files        bigint NOT NULL,
    report       text NOT NULL,                 -- as JSON
    PRIMARY KEY (store, at)
);

-- What stood against each limit after each census.
CREATE TABLE fill_levels (
    kind         text NOT NULL,
    name         text COLLATE "C" NOT NULL,
    at           timestamptz NOT NULL,
    bytes        bigint NOT NULL,
    files        bigint NOT NULL,
    PRIMARY KEY (kind, name, at)
);
