-- The directory through which an administrator signs in, by a bind with the password that it has there.
ALTER TABLE administrators ADD COLUMN directory text COLLATE "C" REFERENCES directories (name);
