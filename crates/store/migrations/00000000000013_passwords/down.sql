DROP TABLE password_links;
ALTER TABLE users DROP COLUMN disabled_at;
