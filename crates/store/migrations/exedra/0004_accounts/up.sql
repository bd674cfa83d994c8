-- Who may use the console and its API by a name and a password.
CREATE TABLE accounts (
    name     TEXT   NOT NULL PRIMARY KEY,
    password TEXT   NOT NULL,  -- Argon2id, as a PHC string
    role     TEXT   NOT NULL,  -- 'viewer' or 'operator'
    sites    TEXT   NOT NULL,  -- as JSON: a list of the sites that may be seen; null for all
    made     BIGINT NOT NULL   -- seconds since 1970 UTC
);
-- What a session or a token is known by to those who may end it; what was made before is known by its number.
ALTER TABLE secrets ADD COLUMN id TEXT NOT NULL DEFAULT '';
-- The account of a session; empty for whoever came by a one-time link.
ALTER TABLE secrets ADD COLUMN account TEXT NOT NULL DEFAULT '';
-- What a token is for, who made it, and what it may do.
ALTER TABLE secrets ADD COLUMN label TEXT NOT NULL DEFAULT '';
ALTER TABLE secrets ADD COLUMN made_by TEXT NOT NULL DEFAULT '';
ALTER TABLE secrets ADD COLUMN role TEXT NOT NULL DEFAULT 'operator';
ALTER TABLE secrets ADD COLUMN sites TEXT NOT NULL DEFAULT 'null';
-- When it was used last, in seconds since 1970 UTC, to the minute; 0 where it never was.
ALTER TABLE secrets ADD COLUMN used BIGINT NOT NULL DEFAULT 0;
UPDATE secrets SET id = lower(hex(randomblob(6)));
-- Every change that was made by the API, and by whom.
CREATE TABLE changes (
    number INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT,
    made   BIGINT  NOT NULL,  -- seconds since 1970 UTC
    who    TEXT    NOT NULL,
    client TEXT    NOT NULL,  -- the address it came from
    what   TEXT    NOT NULL,  -- the call
    status INTEGER NOT NULL,  -- how it was answered
    detail TEXT    NOT NULL
);
