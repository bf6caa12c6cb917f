-- What clients did at stand-ins, and what came of it: the newest lines only.
CREATE TABLE rehearsal_lines (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    draft       text,                               -- the draft that was rehearsed; null: the model in force
    folded      text COLLATE "C" NOT NULL,          -- the account, as names are compared
    endpoint    text COLLATE "C" NOT NULL,          -- the same of the endpoint
    allowed     boolean NOT NULL,
    line        jsonb NOT NULL
);
CREATE INDEX ON rehearsal_lines (folded, id);
