-- A list `only` that is there narrows, even if nobody is left in it.
ALTER TABLE endpoints ADD COLUMN narrowed boolean NOT NULL DEFAULT false;
UPDATE endpoints SET narrowed = true WHERE name IN (SELECT endpoint FROM endpoint_lists WHERE list = 'only');

-- The journal has lines of what is no change of the model, too: lifted locks, ended tokens, sign-ins to the service.
ALTER TABLE journal DROP CONSTRAINT journal_pkey;
ALTER TABLE journal ADD COLUMN id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY;
ALTER TABLE journal ALTER COLUMN revision DROP NOT NULL;
ALTER TABLE journal ADD UNIQUE (revision);
-- What followed from the change, in a line or two; null: it was not looked at.
ALTER TABLE journal ADD COLUMN followed text[];
-- Lines of older versions have their items, or only how many there were, in these; newer ones in item_changes.
ALTER TABLE journal ALTER COLUMN before DROP NOT NULL;
ALTER TABLE journal ALTER COLUMN after DROP NOT NULL;

-- Every item that a change changed, before and after it, as JSON of the model file's form; null: it was not there.
CREATE TABLE item_changes (
    line         bigint NOT NULL,               -- journal.id
    number       integer NOT NULL,              -- the order within the line
    section      text NOT NULL,
    name         text COLLATE "C" NOT NULL,
    before       text,
    after        text,
    PRIMARY KEY (line, number)
);
