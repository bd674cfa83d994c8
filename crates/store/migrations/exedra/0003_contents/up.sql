-- The texts of configurations' files, each once however many revisions it is part of.
CREATE TABLE contents (
    hash TEXT NOT NULL PRIMARY KEY,  -- SHA-256 of the text, in hexadecimal digits
    text TEXT NOT NULL
);
-- Whether `files` names texts by their hash; in revisions before, it holds the texts themselves.
ALTER TABLE revisions ADD COLUMN by_hash BOOLEAN NOT NULL DEFAULT 0;
