-- Reports for somebody to sign, as they were told, and what was decided.
CREATE TABLE reports (
    number      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    about       text COLLATE "C" NOT NULL,
    revision    bigint NOT NULL,
    made        timestamptz NOT NULL DEFAULT clock_timestamp(),
    made_by     text NOT NULL,
    told        jsonb NOT NULL,                     -- title, rows, what is gone, notes
    since       bigint,                             -- the one that was signed last, with which it is compared
    signed      jsonb                               -- who, when, and what was decided
);
CREATE INDEX reports_about ON reports (about, number) WHERE signed IS NOT NULL;
