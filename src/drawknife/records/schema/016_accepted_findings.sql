-- Findings that somebody accepts until a day: they are counted then, and not shown.
CREATE TABLE accepted_findings (
    kind        text COLLATE "C" NOT NULL,
    about       text COLLATE "C" NOT NULL,
    until       date NOT NULL,                      -- the last day that it counts (UTC)
    note        text NOT NULL,
    who         text NOT NULL,
    at          timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (kind, about)
);
