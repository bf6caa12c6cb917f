-- Older services may go on.
-- May a service that does not know a step of the schema go on answering? Each file says so itself, in its first line.
ALTER TABLE schema_steps ADD COLUMN older_may_answer boolean NOT NULL DEFAULT false;
UPDATE schema_steps SET older_may_answer = true;
