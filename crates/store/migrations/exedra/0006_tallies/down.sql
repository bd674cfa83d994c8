DROP TABLE tallies;
