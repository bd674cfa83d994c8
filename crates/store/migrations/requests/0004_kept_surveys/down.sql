DROP TABLE removals;
DROP TABLE survey_keys;
DROP TABLE kept_parts;
DROP TABLE kept_surveys;
