-- Who may use the service: people with a role and perhaps an area, and the tokens of their programs.
CREATE TABLE administrators (
    name        text COLLATE "C" PRIMARY KEY,
    folded      text COLLATE "C" NOT NULL UNIQUE,   -- the name as names are compared
    role        text NOT NULL CHECK (role IN ('reader', 'drafter', 'editor', 'owner')),
    area        text[],                             -- null: everything
    password    text,                               -- an argon2 hash; null: none
    added       timestamptz NOT NULL DEFAULT clock_timestamp(),
    added_by    text NOT NULL
);

-- Whoever held a token so far could do everything.
INSERT INTO administrators (name, folded, role, added_by)
    SELECT name, lower(name), 'owner', 'drawknife serve' FROM tokens GROUP BY name;

-- `name` is whose token it is. A program's token has a name of its own, and a role no wider than its maker's.
ALTER TABLE tokens
    ADD COLUMN id bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    ADD COLUMN called text COLLATE "C",
    ADD COLUMN role text CHECK (role IN ('reader', 'drafter', 'editor', 'owner')),
    ADD COLUMN last_used timestamptz,
    ADD FOREIGN KEY (name) REFERENCES administrators ON DELETE CASCADE ON UPDATE CASCADE;
UPDATE tokens SET called = name, role = 'owner' WHERE kind = 'token';

-- Changes that are not in force yet, as a list of steps; what was said of them.
CREATE TABLE drafts (
    name        text COLLATE "C" PRIMARY KEY,
    folded      text COLLATE "C" NOT NULL UNIQUE,
    about       text,
    begun       timestamptz NOT NULL DEFAULT clock_timestamp(),
    begun_by    text NOT NULL,
    version     bigint NOT NULL DEFAULT 1           -- another at every change of its steps
);
CREATE TABLE draft_steps (
    draft       text COLLATE "C" NOT NULL REFERENCES drafts ON DELETE CASCADE,
    number      integer NOT NULL,
    revision    bigint NOT NULL,                    -- the one in force when it was written
    at          timestamptz NOT NULL DEFAULT clock_timestamp(),
    who         text NOT NULL,
    administrator text NOT NULL,                    -- whose program it was, where it was one
    step        text NOT NULL,                      -- JSON
    PRIMARY KEY (draft, number)
);
CREATE TABLE draft_comments (
    draft       text COLLATE "C" NOT NULL REFERENCES drafts ON DELETE CASCADE,
    number      integer NOT NULL,
    at          timestamptz NOT NULL DEFAULT clock_timestamp(),
    who         text NOT NULL,
    says        text NOT NULL,
    PRIMARY KEY (draft, number)
);
