DELETE FROM revisions WHERE by_hash;
ALTER TABLE revisions DROP COLUMN by_hash;
DROP TABLE contents;
