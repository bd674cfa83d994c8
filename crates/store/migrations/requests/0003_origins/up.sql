-- Where the requests of a segment were read from, as JSON: [[name of the log, how it begins, requests], …]. Empty where that
-- was not written down. So it is known what to read again when a segment is damaged, and what must not be.
ALTER TABLE segments ADD COLUMN origins TEXT NOT NULL DEFAULT '';
-- Names of its columns, between commas: one that is not among them was not known then, one that is and lacks is lost.
ALTER TABLE segments ADD COLUMN column_names TEXT NOT NULL DEFAULT '';
-- Octets of the lines they were read from: about what they take in memory.
ALTER TABLE segments ADD COLUMN octets BIGINT NOT NULL DEFAULT 0;
-- Whether segments of a log were damaged, so that it is to be read again from its beginning.
ALTER TABLE sources ADD COLUMN incomplete BOOLEAN NOT NULL DEFAULT 0;
-- Damaged files whose undamaged segments are in this one.
CREATE TABLE salvaged (
    file TEXT NOT NULL PRIMARY KEY
);
