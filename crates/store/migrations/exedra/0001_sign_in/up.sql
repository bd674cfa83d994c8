-- Secrets are kept only as SHA-256 of what was given out.
CREATE TABLE secrets (
    hash    TEXT   NOT NULL PRIMARY KEY,
    purpose TEXT   NOT NULL,  -- 'link', 'session' or 'token'
    made    BIGINT NOT NULL,  -- seconds since 1970 UTC
    expires BIGINT NOT NULL
);
