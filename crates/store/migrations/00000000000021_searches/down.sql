DROP TABLE searches;
