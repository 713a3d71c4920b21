DROP TABLE clock;
DROP INDEX weather_sources_own;
DROP INDEX zones_station;
ALTER TABLE zones DROP COLUMN box_number, DROP COLUMN number;
DROP TABLE events;
DROP TABLE site_readings;
ALTER TABLE sites DROP COLUMN revision;
