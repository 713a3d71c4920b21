-- How many new readings a device's token has brought on the last day on which it brought any, by universal time.
ALTER TABLE sensor_devices
    ADD COLUMN quota_day DATE,
    ADD COLUMN quota_taken INTEGER NOT NULL DEFAULT 0;
