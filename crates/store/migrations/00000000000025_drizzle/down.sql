ALTER TABLE site_versions DROP COLUMN drizzle;
