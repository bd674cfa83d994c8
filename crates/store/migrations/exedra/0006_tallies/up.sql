-- What remains of days whose requests have passed the retention: figures of which nobody can tell who made them.
CREATE TABLE tallies (
    id      INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT,
    site    TEXT    NOT NULL,
    day     TEXT    NOT NULL,  -- as in 2026-09-14
    zone    TEXT    NOT NULL,  -- whose day: IANA name
    figures TEXT    NOT NULL,  -- as JSON
    removal TEXT    NOT NULL,  -- the removal of its requests from requests.db
    settled BOOLEAN NOT NULL   -- whether that is known to have been done: only then it counts
);
CREATE INDEX tallies_by_day ON tallies (site, day);
