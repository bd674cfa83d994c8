-- Up to when each scheduled report has been made.
CREATE TABLE report_schedules (
    report TEXT   NOT NULL PRIMARY KEY,
    done   BIGINT NOT NULL  -- seconds since 1970 UTC
);
-- Reports that were made by themselves, or were to be.
CREATE TABLE report_runs (
    number  INTEGER NOT NULL PRIMARY KEY AUTOINCREMENT,
    report  TEXT    NOT NULL,
    due     BIGINT  NOT NULL,  -- when it was to be made, in seconds since 1970 UTC
    made    BIGINT  NOT NULL,  -- when it was
    days    TEXT    NOT NULL,  -- what it is about, as in 2026-09-14..2026-09-21
    summary TEXT    NOT NULL,
    file    TEXT,              -- null where it could not be made, and where it is no longer kept
    octets  BIGINT  NOT NULL,
    failure TEXT,
    made_by TEXT    NOT NULL   -- who wanted it at once; empty where it was its time
);
CREATE INDEX report_runs_by_report ON report_runs (report, number);
