DROP TABLE revisions;
