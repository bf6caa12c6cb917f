-- What sort of thing a line of the journal tells, so that sign-ins and censuses can be told apart from changes.
ALTER TABLE journal ADD COLUMN kind text COLLATE "C" NOT NULL DEFAULT 'change'
    CHECK (kind IN ('change', 'census', 'other', 'sign-in'));
UPDATE journal SET kind = CASE
    WHEN revision IS NOT NULL AND what LIKE 'census of %' THEN 'census'
    WHEN revision IS NULL AND what LIKE 'forget the census of %' THEN 'census'
    WHEN revision IS NULL AND (what LIKE 'signed in to the console%' OR what = 'signed out of the console') THEN 'sign-in'
    WHEN revision IS NULL THEN 'other'
    ELSE 'change' END;
