-- What has been told of each alert, and what people said about it. Minutes are counted since 1970 UTC.
CREATE TABLE alerts (
    name          TEXT   NOT NULL PRIMARY KEY,
    until         BIGINT NOT NULL,  -- the first minute that was not looked at yet
    raised        BIGINT,           -- the minute from which on it is raised, where that has been told
    seen_by       TEXT   NOT NULL,  -- who has seen that it is raised; empty where nobody said so
    silent_until  BIGINT NOT NULL,  -- nobody is told before this: seconds since 1970 UTC
    silent_by     TEXT   NOT NULL,
    silent_reason TEXT   NOT NULL
);
-- When alerts were raised.
CREATE TABLE alert_history (
    number INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT,
    alert  TEXT    NOT NULL,
    began  BIGINT  NOT NULL,  -- minute
    ended  BIGINT,            -- minute; null while it goes on
    figure TEXT    NOT NULL,  -- the one that was furthest beyond the bound, in words
    client TEXT
);
CREATE INDEX alert_history_by_alert ON alert_history (alert, number);
-- What recipients are told, kept until it is delivered and for a while after.
CREATE TABLE messages (
    number    INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT,
    id        TEXT    NOT NULL UNIQUE,  -- by which receivers know repeats
    recipient TEXT    NOT NULL,
    kind      TEXT    NOT NULL,
    subject   TEXT    NOT NULL,
    content   TEXT    NOT NULL,  -- as JSON: the service's own matter
    made      BIGINT  NOT NULL,  -- seconds since 1970 UTC
    state     TEXT    NOT NULL,  -- 'waiting', 'delivered', 'given up' or 'gathered'
    attempts  INTEGER NOT NULL,
    next      BIGINT  NOT NULL,  -- not before this: seconds since 1970 UTC
    failure   TEXT,              -- why the last attempt failed
    ended     BIGINT             -- when it was delivered or given up
);
CREATE INDEX messages_by_state ON messages (state, recipient, number);
