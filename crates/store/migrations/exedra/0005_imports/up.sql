-- Logs of elsewhere whose requests were brought into the records. How far each has come stands with the requests themselves.
CREATE TABLE imports (
    id      TEXT   NOT NULL PRIMARY KEY,
    site    TEXT   NOT NULL,
    name    TEXT   NOT NULL,  -- as it was named by whoever brought it
    known   TEXT   NOT NULL,  -- by what it is known again, as JSON: the client's own matter
    made    BIGINT NOT NULL,  -- seconds since 1970 UTC
    made_by TEXT   NOT NULL
);
