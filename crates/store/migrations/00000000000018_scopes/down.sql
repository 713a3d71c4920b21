DROP TABLE user_sites;
ALTER TABLE users DROP CONSTRAINT users_owner_sees_all, DROP COLUMN every_site;
