-- Older services may go on.
-- What its directory knows a unit by, so that a renamed one is followed.
ALTER TABLE units ADD COLUMN source_id text;
