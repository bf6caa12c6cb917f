-- What of the findings was told to whom outside, so that each is told once, and once more when it is mended.
CREATE TABLE told_findings (
    way         text COLLATE "C" NOT NULL,          -- webhook, or mail
    kind        text COLLATE "C" NOT NULL,
    about       text COLLATE "C" NOT NULL,
    sentence    text COLLATE "C" NOT NULL,          -- the sentence, its numbers aside
    text        text NOT NULL,
    PRIMARY KEY (way, kind, about, sentence)
);
CREATE TABLE told_last (
    way         text COLLATE "C" PRIMARY KEY,
    revision    bigint NOT NULL,
    at          timestamptz NOT NULL
);
