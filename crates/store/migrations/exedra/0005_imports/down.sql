DROP TABLE imports;
