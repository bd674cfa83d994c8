-- Every configuration that was in force.
CREATE TABLE revisions (
    number INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT,
    made   BIGINT  NOT NULL,  -- when it came into force, in seconds since 1970 UTC
    files  TEXT    NOT NULL   -- its files as JSON: a list of [name, text], the main one first
);
