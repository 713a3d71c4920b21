ALTER TABLE zone_versions DROP COLUMN since;
