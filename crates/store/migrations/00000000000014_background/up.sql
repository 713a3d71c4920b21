-- Readings become weather, and work that no page waits for.

-- Raw readings stand by month, so that the old ones go as a whole month; ten minutes stay for good.
ALTER TABLE sensor_readings RENAME TO sensor_readings_before;
ALTER TABLE sensor_readings_before RENAME CONSTRAINT sensor_readings_pkey TO sensor_readings_before_pkey;
DROP INDEX sensor_readings_device_id;
CREATE TABLE sensor_readings (
    sensor_id BIGINT NOT NULL REFERENCES sensors (id) ON DELETE CASCADE,
    channel   TEXT NOT NULL,
    at        TIMESTAMPTZ NOT NULL,
    value     DOUBLE PRECISION NOT NULL,
    -- Empty: typed or from a file.
    device_id BIGINT REFERENCES sensor_devices (id) ON DELETE SET NULL,
    came_at   TIMESTAMPTZ NOT NULL DEFAULT now(),
    PRIMARY KEY (sensor_id, channel, at)
) PARTITION BY RANGE (at);
CREATE INDEX sensor_readings_device_id ON sensor_readings (device_id);

-- Makes the month of an instant, in universal time, if it is not there.
CREATE FUNCTION readings_month(instant TIMESTAMPTZ) RETURNS VOID LANGUAGE plpgsql AS $$
DECLARE
    first TIMESTAMP := date_trunc('month', instant AT TIME ZONE 'UTC');
    name  TEXT := 'sensor_readings_' || to_char(first, 'YYYY_MM');
BEGIN
    IF to_regclass(name) IS NULL THEN
        -- Two posts that begin a month at once.
        PERFORM pg_advisory_xact_lock(hashtext(name));
        EXECUTE format(
            'CREATE TABLE IF NOT EXISTS %I PARTITION OF sensor_readings FOR VALUES FROM (%L) TO (%L)',
            name, first AT TIME ZONE 'UTC', (first + interval '1 month') AT TIME ZONE 'UTC');
    END IF;
END $$;
SELECT readings_month(month) FROM (SELECT DISTINCT date_trunc('month', at) AS month FROM sensor_readings_before) m;
INSERT INTO sensor_readings SELECT * FROM sensor_readings_before;
DROP TABLE sensor_readings_before;

-- Ten minutes know how many readings they are made of, and their sum. Rain is counted to the ten minutes that end with
-- it: it fell before it was read.
ALTER TABLE sensor_buckets ADD COLUMN readings INT, ADD COLUMN sum DOUBLE PRECISION;
UPDATE sensor_buckets b SET readings = r.readings, sum = r.sum
FROM (SELECT sensor_id, channel, date_bin('10 minutes', at, TIMESTAMPTZ '2000-01-01') AS bucket,
             count(*) AS readings, sum(value) AS sum
      FROM sensor_readings GROUP BY 1, 2, 3) r
WHERE b.sensor_id = r.sensor_id AND b.channel = r.channel AND b.bucket = r.bucket;
UPDATE sensor_buckets SET readings = 1, sum = value WHERE readings IS NULL;
ALTER TABLE sensor_buckets ALTER COLUMN readings SET NOT NULL, ALTER COLUMN sum SET NOT NULL;

-- Whether what a sensor reads is weather of its site.
ALTER TABLE sensors ADD COLUMN feeds_weather BOOLEAN NOT NULL DEFAULT TRUE;

-- Days, in universal time, of which readings came that are not in the record yet.
CREATE TABLE readings_due (
    sensor_id BIGINT NOT NULL REFERENCES sensors (id) ON DELETE CASCADE,
    day       DATE NOT NULL,
    -- Posts since it is due; the first of them asks for the work.
    posts     INT NOT NULL DEFAULT 1,
    PRIMARY KEY (sensor_id, day)
);
INSERT INTO readings_due (sensor_id, day)
SELECT DISTINCT sensor_id, (bucket AT TIME ZONE 'UTC')::date FROM sensor_buckets
WHERE channel IN ('rain_mm', 'temperature_c', 'humidity_pct', 'solar_w_m2', 'wind_m_s');

-- A layer that follows what sensors or a service say: its days are computed anew, not imported again.
ALTER TABLE weather_imports ADD COLUMN follows BOOLEAN NOT NULL DEFAULT FALSE;
-- The draft that an import is being written for, row by row and out of everybody's way; it counts from when it is empty.
ALTER TABLE weather_imports ADD COLUMN staged_for BIGINT;
CREATE UNIQUE INDEX weather_imports_follows ON weather_imports (source_id) WHERE follows;
-- Variables of an hour that were heard over a part of it only, a bit each; empty: all of them whole.
ALTER TABLE weather_hours ADD COLUMN parts SMALLINT[];

-- What was done by work that no page waited for; the newest are kept.
CREATE TABLE work_done (
    id       BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    task     TEXT NOT NULL,
    of       BIGINT NOT NULL,
    ended_at TIMESTAMPTZ NOT NULL DEFAULT now(),
    took_ms  INT NOT NULL,
    attempt  INT NOT NULL,
    -- Empty: it did what it should.
    fault    TEXT NOT NULL DEFAULT '',
    said     TEXT NOT NULL DEFAULT ''
);
CREATE INDEX work_done_ended_at ON work_done (ended_at);
