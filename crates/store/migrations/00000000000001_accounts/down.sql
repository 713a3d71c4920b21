DROP TABLE secrets;
DROP TABLE sessions;
DROP TABLE users;
