-- Surveys of closed days and months, so that they need not be counted again. Whatever changes a stretch of a site's requests deletes
-- those that touch it, in the same transaction.
CREATE TABLE kept_surveys (
    id         INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT,
    site       TEXT    NOT NULL,
    zone       TEXT    NOT NULL,  -- whose days: IANA name
    first_time BIGINT  NOT NULL,  -- first instant, in milliseconds since 1970 UTC
    until_time BIGINT  NOT NULL,  -- the first one behind it
    version    INTEGER NOT NULL,  -- of what was counted
    parts      INTEGER NOT NULL,  -- which of its parts are kept: a bit for each
    UNIQUE (site, zone, first_time, until_time)
);
CREATE TABLE kept_parts (
    id     INTEGER NOT NULL PRIMARY KEY,
    survey INTEGER NOT NULL REFERENCES kept_surveys (id) ON DELETE CASCADE,
    part   INTEGER NOT NULL,
    packed BLOB    NOT NULL,
    UNIQUE (survey, part)
);
-- The key of the hashes in them, which are merged with those of what is counted anew.
CREATE TABLE survey_keys (
    id  INTEGER NOT NULL PRIMARY KEY CHECK (id = 1),
    key BLOB    NOT NULL
);
-- Removals of requests that have passed the retention, of which exedra.db keeps tallies.
CREATE TABLE removals (
    name TEXT NOT NULL PRIMARY KEY
);
