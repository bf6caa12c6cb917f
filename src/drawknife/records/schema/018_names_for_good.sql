-- Every name that a person or a program ever had here: drafts, comments and the journal name their authors by it,
-- so nobody else gets it, nor one that looks like it.
CREATE TABLE names_taken (
    name    text COLLATE "C" PRIMARY KEY,
    by      text NOT NULL,
    since   timestamptz NOT NULL DEFAULT clock_timestamp()
);
INSERT INTO names_taken (name, by) SELECT name, 'an administrator''s' FROM administrators;
INSERT INTO names_taken (name, by) SELECT DISTINCT called, 'a program''s' FROM tokens WHERE called IS NOT NULL
    ON CONFLICT DO NOTHING;
INSERT INTO names_taken (name, by)
    SELECT DISTINCT who, 'an author''s in the journal' FROM journal
    UNION SELECT begun_by, 'the author''s of a draft' FROM drafts
    UNION SELECT who, 'the author''s of a draft' FROM draft_steps
    UNION SELECT who, 'the author''s of a comment' FROM draft_comments
    ON CONFLICT DO NOTHING;

-- A token that provisions a directory has the power of an owner there, as long as its maker is one.
UPDATE tokens SET role = 'owner' WHERE directory IS NOT NULL;
