-- What an account is known by in its directory (such as entryUUID, RFC 4530): a person who is renamed there stays the same one.
ALTER TABLE accounts ADD COLUMN source_id text;
