-- A source that is fetched: where from, how often, until it is told to stop.
CREATE TABLE weather_services (
    source_id    BIGINT PRIMARY KEY REFERENCES weather_sources (id) ON DELETE CASCADE,
    -- Empty: it does not tell that.
    measured_url TEXT NOT NULL DEFAULT '',
    foretold_url TEXT NOT NULL DEFAULT '',
    every_min    INT NOT NULL CHECK (every_min BETWEEN 10 AND 1440),
    stopped      BOOLEAN NOT NULL DEFAULT FALSE,
    version      INT NOT NULL DEFAULT 1,
    saved_by     BIGINT NOT NULL REFERENCES users (id),
    saved_at     TIMESTAMPTZ NOT NULL DEFAULT app_now(),
    CHECK (measured_url <> '' OR foretold_url <> '')
);
CREATE INDEX weather_services_saved_by ON weather_services (saved_by);

-- What a service answered, the newest kept; times are by the application's clock.
CREATE TABLE weather_answers (
    id        BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    source_id BIGINT NOT NULL REFERENCES weather_sources (id) ON DELETE CASCADE,
    foretold  BOOLEAN NOT NULL,
    asked_at  TIMESTAMPTZ NOT NULL DEFAULT app_now(),
    took_ms   INT NOT NULL,
    bytes     INT NOT NULL,
    -- Days or hours that it held, and days that are other than they were.
    held      INT NOT NULL,
    changed   INT NOT NULL,
    -- Until when it knows.
    until     TIMESTAMPTZ,
    -- Empty: it was taken in.
    fault     TEXT NOT NULL DEFAULT '',
    -- The answer itself, of the newest only.
    body      BYTEA
);
CREATE INDEX weather_answers_source_id ON weather_answers (source_id, foretold, id);

-- What was last foretold of a day, kept apart from the record.
CREATE TABLE weather_forecasts (
    source_id           BIGINT NOT NULL REFERENCES weather_sources (id) ON DELETE CASCADE,
    date                DATE NOT NULL,
    said_at             TIMESTAMPTZ NOT NULL,
    -- Lowest temperature as it was last said before the day began.
    tmin_ahead_c        DOUBLE PRECISION,
    tmin_c              DOUBLE PRECISION,
    tmax_c              DOUBLE PRECISION,
    dew_point_c         DOUBLE PRECISION,
    rh_min_pct          DOUBLE PRECISION,
    rh_max_pct          DOUBLE PRECISION,
    vapour_pressure_kpa DOUBLE PRECISION,
    solar_mj_m2         DOUBLE PRECISION,
    wind_m_s            DOUBLE PRECISION,
    rain_mm             DOUBLE PRECISION,
    PRIMARY KEY (source_id, date)
);

-- A draft that only asks how the columns of a service are read.
ALTER TABLE weather_drafts ADD COLUMN of_service BOOLEAN NOT NULL DEFAULT FALSE;
