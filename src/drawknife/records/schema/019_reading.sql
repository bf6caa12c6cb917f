-- What somebody with an area reads: what touches the area, or everything. Who has an area by now read everything, and still does.
ALTER TABLE administrators ADD COLUMN reads text NOT NULL DEFAULT 'area' CHECK (reads IN ('area', 'everything'));
UPDATE administrators SET reads = 'everything' WHERE area IS NOT NULL;
