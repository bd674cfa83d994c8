DROP TABLE segment_columns; DROP TABLE segments; DROP TABLE sources;
