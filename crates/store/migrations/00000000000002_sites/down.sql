DROP TABLE zone_versions;
DROP TABLE zones;
DROP TABLE site_versions;
DROP TABLE sites;
