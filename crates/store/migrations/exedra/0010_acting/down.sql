DROP TABLE publications;
DROP TABLE set_aside;
