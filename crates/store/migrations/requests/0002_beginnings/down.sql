ALTER TABLE sources DROP COLUMN begins;
