-- Older services may go on.
-- A directory with an interval is synchronised by itself only after somebody has synchronised it once.
ALTER TABLE directories ADD COLUMN confirmed boolean NOT NULL DEFAULT false;
UPDATE directories d SET confirmed = true WHERE EXISTS (SELECT FROM syncs s WHERE s.directory = d.name AND s.done);
