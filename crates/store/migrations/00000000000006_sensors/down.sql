DROP TABLE reading_refusals;
DROP TABLE sensor_buckets;
DROP TABLE sensor_readings;
DROP TABLE sensor_devices;
DROP TABLE site_plans;
DROP TABLE sensor_events;
DROP TABLE sensor_versions;
DROP TABLE sensors;
