-- Statements that somebody kept under a name.
CREATE TABLE queries (
    name       TEXT   NOT NULL PRIMARY KEY,
    question   TEXT   NOT NULL,
    statement  TEXT   NOT NULL,
    parameters TEXT   NOT NULL,  -- usual values of its `:name`s, as JSON
    owner      TEXT   NOT NULL,
    changed    BIGINT NOT NULL   -- seconds since 1970 UTC
);
