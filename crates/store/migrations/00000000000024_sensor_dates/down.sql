ALTER TABLE sensor_versions DROP COLUMN since;
