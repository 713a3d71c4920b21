ALTER TABLE sensor_devices DROP COLUMN quota_day, DROP COLUMN quota_taken;
