-- Findings that somebody has set aside, with why and until when.
CREATE TABLE set_aside (
    id      TEXT   NOT NULL PRIMARY KEY,
    site    TEXT   NOT NULL,
    title   TEXT   NOT NULL,  -- as it was found then
    reason  TEXT   NOT NULL,
    made    BIGINT NOT NULL,  -- seconds since 1970 UTC
    made_by TEXT   NOT NULL,
    until   BIGINT,           -- seconds since 1970 UTC; null where no time ends it
    weight  DOUBLE            -- it ends when it weighs twice as much as this; null where no weight ends it
);
-- Changes that were published, with what their rehearsal promised.
CREATE TABLE publications (
    revision  INTEGER NOT NULL PRIMARY KEY,
    made      BIGINT  NOT NULL,  -- milliseconds since 1970 UTC: requests of the same second came before it and after
    made_by   TEXT    NOT NULL,
    reason    TEXT    NOT NULL,
    before    INTEGER NOT NULL,  -- the revision that was in force before
    rehearsal TEXT,              -- its outcome as JSON; null where it was not rehearsed
    state     TEXT    NOT NULL,  -- watched, well, failing, taken back
    said      TEXT    NOT NULL   -- what was seen in its first minutes
);
