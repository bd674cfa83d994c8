-- A log is known by how it begins, not by its name alone: another may take its place. Empty where that was not written down.
ALTER TABLE sources ADD COLUMN begins TEXT NOT NULL DEFAULT '';
