-- Older services may go on.
-- What its directory knows a unit by, so that a renamed one is followed.
ALTER TABLE units ADD COLUMN source_id text;
-- People are found by the name that was sent, where login names are made of something else.
CREATE INDEX provisioned_user_names ON provisioned (directory, lower(body->>'userName'));
