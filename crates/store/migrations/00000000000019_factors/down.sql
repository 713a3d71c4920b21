DROP TABLE spare_codes;
ALTER TABLE users DROP COLUMN factor_secret, DROP COLUMN factor_pending, DROP COLUMN factor_step;
