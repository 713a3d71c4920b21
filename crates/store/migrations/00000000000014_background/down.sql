DROP TABLE work_done;
ALTER TABLE weather_hours DROP COLUMN parts;
DELETE FROM weather_imports WHERE follows OR staged_for IS NOT NULL;
ALTER TABLE weather_imports DROP COLUMN follows, DROP COLUMN staged_for;
DROP TABLE readings_due;
ALTER TABLE sensors DROP COLUMN feeds_weather;
ALTER TABLE sensor_buckets DROP COLUMN readings, DROP COLUMN sum;
CREATE TABLE sensor_readings_whole (
    sensor_id BIGINT NOT NULL REFERENCES sensors (id) ON DELETE CASCADE,
    channel   TEXT NOT NULL,
    at        TIMESTAMPTZ NOT NULL,
    value     DOUBLE PRECISION NOT NULL,
    device_id BIGINT REFERENCES sensor_devices (id) ON DELETE SET NULL,
    came_at   TIMESTAMPTZ NOT NULL DEFAULT now(),
    PRIMARY KEY (sensor_id, channel, at)
);
INSERT INTO sensor_readings_whole SELECT * FROM sensor_readings;
DROP TABLE sensor_readings;
DROP FUNCTION readings_month;
ALTER TABLE sensor_readings_whole RENAME TO sensor_readings;
ALTER INDEX sensor_readings_whole_pkey RENAME TO sensor_readings_pkey;
CREATE INDEX sensor_readings_device_id ON sensor_readings (device_id);
