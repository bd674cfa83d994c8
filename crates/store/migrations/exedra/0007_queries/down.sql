DROP TABLE queries;
