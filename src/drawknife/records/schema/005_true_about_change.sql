-- A list `only` that is there narrows, even if nobody is left in it.
ALTER TABLE endpoints ADD COLUMN narrowed boolean NOT NULL DEFAULT false;
UPDATE endpoints SET narrowed = true WHERE name IN (SELECT endpoint FROM endpoint_lists WHERE list = 'only');
