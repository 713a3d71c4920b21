DROP TABLE settings_drafts;
ALTER TABLE users DROP COLUMN twelve_hours, DROP COLUMN month_first;
