CREATE TABLE sensors (
    id           BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id      BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    installed_on DATE NOT NULL,
    removed_at   TIMESTAMPTZ
);
CREATE INDEX sensors_site_id ON sensors (site_id);

CREATE TABLE sensor_versions (
    sensor_id BIGINT NOT NULL REFERENCES sensors (id) ON DELETE CASCADE,
    version   INT NOT NULL,
    body      JSONB NOT NULL,
    saved_by  BIGINT NOT NULL REFERENCES users (id),
    saved_at  TIMESTAMPTZ NOT NULL DEFAULT now(),
    PRIMARY KEY (sensor_id, version)
);
CREATE INDEX sensor_versions_saved_by ON sensor_versions (saved_by);

-- What was done to a sensor, dated: bypass and silence (with their end), a task of upkeep, a
-- calibration run, a threshold moved with the looks of the turf. Taken back, never deleted.
CREATE TABLE sensor_events (
    id        BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    sensor_id BIGINT NOT NULL REFERENCES sensors (id) ON DELETE CASCADE,
    kind      TEXT NOT NULL CHECK (kind IN ('bypass', 'silence', 'task', 'calibration', 'adjustment')),
    from_at   TIMESTAMPTZ NOT NULL,
    until_at  TIMESTAMPTZ,
    body      JSONB NOT NULL DEFAULT '{}',
    reason    TEXT NOT NULL,
    said_by   BIGINT NOT NULL REFERENCES users (id),
    said_at   TIMESTAMPTZ NOT NULL DEFAULT now(),
    undone_at TIMESTAMPTZ,
    CHECK ((kind IN ('bypass', 'silence')) = (until_at IS NOT NULL)),
    CHECK (until_at IS NULL OR until_at > from_at)
);
CREATE INDEX sensor_events_sensor_id ON sensor_events (sensor_id, from_at);
CREATE INDEX sensor_events_said_by ON sensor_events (said_by);

-- The plan of a site; the newest row counts.
CREATE TABLE site_plans (
    id       BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id  BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    body     JSONB NOT NULL,
    saved_by BIGINT NOT NULL REFERENCES users (id),
    saved_at TIMESTAMPTZ NOT NULL DEFAULT now()
);
CREATE INDEX site_plans_site_id ON site_plans (site_id, id);
CREATE INDEX site_plans_saved_by ON site_plans (saved_by);

-- A device that may post readings of a sensor. Only the hash of its token is kept.
CREATE TABLE sensor_devices (
    id         BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    sensor_id  BIGINT NOT NULL REFERENCES sensors (id) ON DELETE CASCADE,
    name       TEXT NOT NULL,
    token_hash BYTEA NOT NULL UNIQUE,
    -- The token before the last rotation is good until the new one was used.
    old_hash   BYTEA UNIQUE,
    made_by    BIGINT NOT NULL REFERENCES users (id),
    made_at    TIMESTAMPTZ NOT NULL DEFAULT now(),
    seen_at    TIMESTAMPTZ,
    -- Where it was last seen, so that two on one address are noticed.
    seen_from  TEXT,
    revoked_at TIMESTAMPTZ
);
CREATE INDEX sensor_devices_sensor_id ON sensor_devices (sensor_id);
CREATE INDEX sensor_devices_made_by ON sensor_devices (made_by);

-- One value for a sensor, channel and instant: a repeated post changes nothing.
CREATE TABLE sensor_readings (
    sensor_id BIGINT NOT NULL REFERENCES sensors (id) ON DELETE CASCADE,
    channel   TEXT NOT NULL,
    at        TIMESTAMPTZ NOT NULL,
    value     DOUBLE PRECISION NOT NULL,
    -- Empty: typed or from a file.
    device_id BIGINT REFERENCES sensor_devices (id) ON DELETE SET NULL,
    came_at   TIMESTAMPTZ NOT NULL DEFAULT now(),
    PRIMARY KEY (sensor_id, channel, at)
);
CREATE INDEX sensor_readings_device_id ON sensor_readings (device_id);

-- The same by ten minutes, kept in step with every insert: the sum of rain, else the last value. States
-- over weeks are read from here; a device may post every second.
CREATE TABLE sensor_buckets (
    sensor_id BIGINT NOT NULL REFERENCES sensors (id) ON DELETE CASCADE,
    channel   TEXT NOT NULL,
    bucket    TIMESTAMPTZ NOT NULL,
    -- Of the last reading in it.
    at        TIMESTAMPTZ NOT NULL,
    value     DOUBLE PRECISION NOT NULL,
    PRIMARY KEY (sensor_id, channel, bucket)
);

-- What was refused, counted by device and reason; an empty device is an unknown token.
CREATE TABLE reading_refusals (
    device_id BIGINT REFERENCES sensor_devices (id) ON DELETE CASCADE,
    reason    TEXT NOT NULL,
    count     BIGINT NOT NULL,
    last_at   TIMESTAMPTZ NOT NULL,
    example   TEXT NOT NULL
);
CREATE UNIQUE INDEX reading_refusals_device_reason ON reading_refusals (COALESCE(device_id, 0), reason);
CREATE INDEX reading_refusals_device_id ON reading_refusals (device_id);
