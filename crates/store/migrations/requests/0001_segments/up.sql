-- Whatever is in this database can be read again from the logs.
CREATE TABLE sources (
    name   TEXT    NOT NULL PRIMARY KEY,  -- file name of the log
    octets BIGINT  NOT NULL,              -- how much of it is in the segments
    lines  BIGINT  NOT NULL,              -- lines of it that became requests
    unread BIGINT  NOT NULL               -- lines of it that did not
);
CREATE TABLE segments (
    id         INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT,
    site       TEXT    NOT NULL,
    requests   INTEGER NOT NULL,
    first_time BIGINT  NOT NULL,
    last_time  BIGINT  NOT NULL,
    retired    BOOLEAN NOT NULL DEFAULT 0  -- merged into another; goes when nobody reads it any more
);
CREATE TABLE segment_columns (
    id      INTEGER NOT NULL PRIMARY KEY,
    segment INTEGER NOT NULL REFERENCES segments (id) ON DELETE CASCADE,
    name    TEXT    NOT NULL,
    packed  BLOB    NOT NULL,
    UNIQUE (segment, name)
);
