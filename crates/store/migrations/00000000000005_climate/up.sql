-- Weather of several sources a site. A source stands where it stood when it was made; one that moves
-- is a new source.
CREATE TABLE weather_sources (
    id            BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id       BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    kind          TEXT NOT NULL CHECK (kind IN ('own', 'station', 'normals')),
    name          TEXT NOT NULL,
    -- Empty: at the site, with the site's wind height.
    latitude_deg  DOUBLE PRECISION CHECK (latitude_deg BETWEEN -89 AND 89),
    longitude_deg DOUBLE PRECISION CHECK (longitude_deg BETWEEN -180 AND 180),
    elevation_m   DOUBLE PRECISION,
    wind_height_m DOUBLE PRECISION,
    saved_by      BIGINT NOT NULL REFERENCES users (id),
    saved_at      TIMESTAMPTZ NOT NULL DEFAULT now(),
    removed_at    TIMESTAMPTZ
);
CREATE INDEX weather_sources_site_id ON weather_sources (site_id);
CREATE INDEX weather_sources_saved_by ON weather_sources (saved_by);

-- What was imported so far is the record of the site's own sensor.
INSERT INTO weather_sources (site_id, kind, name, saved_by)
SELECT site_id, 'own', 'Record of the site', min(imported_by) FROM weather_imports GROUP BY site_id;

ALTER TABLE weather_imports ADD COLUMN source_id BIGINT REFERENCES weather_sources (id) ON DELETE CASCADE;
UPDATE weather_imports i SET source_id = s.id FROM weather_sources s WHERE s.site_id = i.site_id;
ALTER TABLE weather_imports
    ALTER COLUMN source_id SET NOT NULL,
    ADD COLUMN hours INT NOT NULL DEFAULT 0;
CREATE INDEX weather_imports_source_id ON weather_imports (source_id);

-- A day is kept as it came: temperatures may be missing or crossed; judging is computed.
ALTER TABLE weather_days
    ALTER COLUMN tmin_c DROP NOT NULL,
    ALTER COLUMN tmax_c DROP NOT NULL,
    DROP CONSTRAINT weather_days_check;

-- Hours as they came, stamped at their start. A block holds the hours of one local day, so that a
-- year is 365 rows; `starts` are seconds since 1970 UTC, and each variable is an array in their order.
CREATE TABLE weather_hours (
    source_id BIGINT NOT NULL REFERENCES weather_sources (id) ON DELETE CASCADE,
    date      DATE NOT NULL,
    import_id BIGINT NOT NULL REFERENCES weather_imports (id) ON DELETE CASCADE,
    starts    BIGINT[] NOT NULL,
    temp_c    DOUBLE PRECISION[] NOT NULL,
    rh_pct    DOUBLE PRECISION[] NOT NULL,
    dew_point_c DOUBLE PRECISION[] NOT NULL,
    solar_mj_m2 DOUBLE PRECISION[] NOT NULL,
    wind_m_s  DOUBLE PRECISION[] NOT NULL,
    rain_mm   DOUBLE PRECISION[] NOT NULL,
    PRIMARY KEY (source_id, date, import_id)
);
CREATE INDEX weather_hours_import_id ON weather_hours (import_id);

-- What a person said about a value; the latest that is not undone counts.
CREATE TABLE weather_overrules (
    id        BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    source_id BIGINT NOT NULL REFERENCES weather_sources (id) ON DELETE CASCADE,
    date      DATE NOT NULL,
    variable  TEXT NOT NULL,
    keep      BOOLEAN NOT NULL,
    reason    TEXT NOT NULL,
    said_by   BIGINT NOT NULL REFERENCES users (id),
    said_at   TIMESTAMPTZ NOT NULL DEFAULT now(),
    undone_at TIMESTAMPTZ
);
CREATE INDEX weather_overrules_source_id ON weather_overrules (source_id, date);
CREATE INDEX weather_overrules_said_by ON weather_overrules (said_by);

-- Which source counts, by variable; the newest row counts.
CREATE TABLE weather_choices (
    id        BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id   BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    -- {"temperature": [source ids, the first counts], ...}
    body      JSONB NOT NULL,
    reason    TEXT NOT NULL,
    chosen_by BIGINT NOT NULL REFERENCES users (id),
    chosen_at TIMESTAMPTZ NOT NULL DEFAULT now()
);
CREATE INDEX weather_choices_site_id ON weather_choices (site_id, id);
CREATE INDEX weather_choices_chosen_by ON weather_choices (chosen_by);

-- Twelve typed months of a source; the newest row counts.
CREATE TABLE weather_normals (
    id        BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    source_id BIGINT NOT NULL REFERENCES weather_sources (id) ON DELETE CASCADE,
    body      JSONB NOT NULL,
    saved_by  BIGINT NOT NULL REFERENCES users (id),
    saved_at  TIMESTAMPTZ NOT NULL DEFAULT now()
);
CREATE INDEX weather_normals_source_id ON weather_normals (source_id, id);
CREATE INDEX weather_normals_saved_by ON weather_normals (saved_by);

-- How the columns of a strange file are read, by its header; the newest row counts.
CREATE TABLE weather_mappings (
    id         BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    header_key TEXT NOT NULL,
    body       JSONB NOT NULL,
    saved_by   BIGINT NOT NULL REFERENCES users (id),
    saved_at   TIMESTAMPTZ NOT NULL DEFAULT now()
);
CREATE INDEX weather_mappings_header_key ON weather_mappings (header_key, id);
CREATE INDEX weather_mappings_saved_by ON weather_mappings (saved_by);

DELETE FROM weather_drafts;
ALTER TABLE weather_drafts
    ADD COLUMN source_id BIGINT NOT NULL REFERENCES weather_sources (id) ON DELETE CASCADE,
    ADD COLUMN mapping JSONB,
    ADD COLUMN cancel BOOLEAN NOT NULL DEFAULT FALSE,
    DROP CONSTRAINT weather_drafts_state_check,
    ADD CONSTRAINT weather_drafts_state_check
        CHECK (state IN ('preview', 'running', 'done', 'failed', 'cancelled'));
CREATE INDEX weather_drafts_source_id ON weather_drafts (source_id);

ALTER TABLE zone_versions ADD COLUMN planting JSONB;

CREATE TABLE catch_tests (
    id       BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    zone_id  BIGINT NOT NULL REFERENCES zones (id) ON DELETE CASCADE,
    taken_on DATE NOT NULL,
    body     JSONB NOT NULL,
    saved_by BIGINT NOT NULL REFERENCES users (id),
    saved_at TIMESTAMPTZ NOT NULL DEFAULT now(),
    undone_at TIMESTAMPTZ
);
CREATE INDEX catch_tests_zone_id ON catch_tests (zone_id);
CREATE INDEX catch_tests_saved_by ON catch_tests (saved_by);

-- What was found in the field: a reading of the soil, or a run that really happened.
CREATE TABLE zone_events (
    id        BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    zone_id   BIGINT NOT NULL REFERENCES zones (id) ON DELETE CASCADE,
    date      DATE NOT NULL,
    kind      TEXT NOT NULL CHECK (kind IN ('reading', 'run')),
    -- Share of the available water that is left, or minutes.
    value     DOUBLE PRECISION NOT NULL CHECK (value >= 0),
    reason    TEXT NOT NULL,
    said_by   BIGINT NOT NULL REFERENCES users (id),
    said_at   TIMESTAMPTZ NOT NULL DEFAULT now(),
    undone_at TIMESTAMPTZ
);
CREATE INDEX zone_events_zone_id ON zone_events (zone_id, date);
CREATE INDEX zone_events_said_by ON zone_events (said_by);

-- Computed normals of a site, good for one weather and site version; may be thrown away.
CREATE TABLE site_normals (
    site_id         BIGINT PRIMARY KEY REFERENCES sites (id) ON DELETE CASCADE,
    weather_version BIGINT NOT NULL,
    site_version    INT NOT NULL,
    body            JSONB NOT NULL
);
