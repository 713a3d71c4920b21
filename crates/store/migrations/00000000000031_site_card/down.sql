ALTER TABLE sites DROP COLUMN assigned_to;
ALTER TABLE site_versions DROP COLUMN card;
