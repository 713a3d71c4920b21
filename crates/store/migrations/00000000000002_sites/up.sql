-- A site and a zone are identities; what was said of them is in versions, never overwritten.
CREATE TABLE sites (
    id              BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    created_at      TIMESTAMPTZ NOT NULL DEFAULT now(),
    removed_at      TIMESTAMPTZ,
    -- Rises with every import and undo, so that a computed climate can be cached by it.
    weather_version BIGINT NOT NULL DEFAULT 0
);

CREATE TABLE site_versions (
    site_id                BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    version                INT NOT NULL CHECK (version > 0),
    name                   TEXT NOT NULL,
    latitude_deg           DOUBLE PRECISION NOT NULL CHECK (latitude_deg BETWEEN -89 AND 89),
    longitude_deg          DOUBLE PRECISION NOT NULL CHECK (longitude_deg BETWEEN -180 AND 180),
    elevation_m            DOUBLE PRECISION NOT NULL,
    wind_height_m          DOUBLE PRECISION NOT NULL,
    time_zone              TEXT NOT NULL,
    units                  TEXT NOT NULL,
    controller_name        TEXT NOT NULL,
    controller_stations    INT NOT NULL CHECK (controller_stations > 0),
    controller_programs    INT NOT NULL CHECK (controller_programs > 0),
    controller_starts      INT NOT NULL CHECK (controller_starts > 0),
    window_from            TIME NOT NULL,
    window_until           TIME NOT NULL CHECK (window_until <> window_from),
    supply_l_per_min       DOUBLE PRECISION,
    saved_by               BIGINT NOT NULL REFERENCES users (id),
    saved_at               TIMESTAMPTZ NOT NULL DEFAULT now(),
    PRIMARY KEY (site_id, version)
);
CREATE INDEX site_versions_saved_by ON site_versions (saved_by);

CREATE TABLE zones (
    id         BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id    BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    created_at TIMESTAMPTZ NOT NULL DEFAULT now(),
    removed_at TIMESTAMPTZ
);
CREATE INDEX zones_site_id ON zones (site_id);

CREATE TABLE zone_versions (
    zone_id                     BIGINT NOT NULL REFERENCES zones (id) ON DELETE CASCADE,
    version                     INT NOT NULL CHECK (version > 0),
    number                      INT NOT NULL CHECK (number BETWEEN 1 AND 250),
    name                        TEXT NOT NULL,
    plant                       TEXT NOT NULL,
    plant_coefficient           DOUBLE PRECISION,
    soil                        TEXT NOT NULL,
    slope_pct                   DOUBLE PRECISION,
    sun                         TEXT NOT NULL,
    sky                         TEXT NOT NULL,
    head                        TEXT NOT NULL,
    precipitation_rate_mm_per_h DOUBLE PRECISION,
    uniformity                  DOUBLE PRECISION,
    root_depth_m                DOUBLE PRECISION,
    allowable_depletion         DOUBLE PRECISION,
    area_m2                     DOUBLE PRECISION,
    saved_by                    BIGINT NOT NULL REFERENCES users (id),
    saved_at                    TIMESTAMPTZ NOT NULL DEFAULT now(),
    PRIMARY KEY (zone_id, version)
);
CREATE INDEX zone_versions_saved_by ON zone_versions (saved_by);
