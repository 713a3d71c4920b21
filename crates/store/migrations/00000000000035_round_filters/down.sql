ALTER TABLE rounds DROP COLUMN controller_types, DROP COLUMN ordinances;
