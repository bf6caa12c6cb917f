-- Memberships and entries may have an end, the last day (UTC) that they count; these, and every item, a note. Those
-- that are kept as documents need no column.
ALTER TABLE memberships ADD COLUMN until date, ADD COLUMN note text;
ALTER TABLE entries ADD COLUMN until date, ADD COLUMN note text;
ALTER TABLE accounts ADD COLUMN note text;
ALTER TABLE folders ADD COLUMN note text;
ALTER TABLE units ADD COLUMN note text;
