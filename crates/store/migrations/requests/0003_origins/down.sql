DROP TABLE salvaged;
ALTER TABLE sources DROP COLUMN incomplete;
ALTER TABLE segments DROP COLUMN octets;
ALTER TABLE segments DROP COLUMN column_names;
ALTER TABLE segments DROP COLUMN origins;
