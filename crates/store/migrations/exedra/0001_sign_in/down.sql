DROP TABLE secrets;
