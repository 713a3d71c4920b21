-- A file waiting for its reader's yes, and the progress of taking it in.
CREATE TABLE weather_drafts (
    id         BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id    BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    user_id    BIGINT NOT NULL REFERENCES users (id) ON DELETE CASCADE,
    file_name  TEXT NOT NULL,
    content    BYTEA NOT NULL,
    days_total INT NOT NULL,
    days_done  INT NOT NULL DEFAULT 0,
    state      TEXT NOT NULL DEFAULT 'preview' CHECK (state IN ('preview', 'running', 'done', 'failed')),
    message    TEXT NOT NULL DEFAULT '',
    created_at TIMESTAMPTZ NOT NULL DEFAULT now()
);
CREATE INDEX weather_drafts_site_id ON weather_drafts (site_id);
CREATE INDEX weather_drafts_user_id ON weather_drafts (user_id);

CREATE TABLE weather_imports (
    id           BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id      BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    file_name    TEXT NOT NULL,
    first_date   DATE NOT NULL,
    last_date    DATE NOT NULL,
    days_new     INT NOT NULL,
    days_changed INT NOT NULL,
    days_same    INT NOT NULL,
    imported_by  BIGINT NOT NULL REFERENCES users (id),
    imported_at  TIMESTAMPTZ NOT NULL DEFAULT now(),
    undone_at    TIMESTAMPTZ
);
CREATE INDEX weather_imports_site_id ON weather_imports (site_id);
CREATE INDEX weather_imports_imported_by ON weather_imports (imported_by);

-- Every value ever taken in. The newest import that is not undone counts for a day.
CREATE TABLE weather_days (
    site_id             BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    date                DATE NOT NULL,
    import_id           BIGINT NOT NULL REFERENCES weather_imports (id) ON DELETE CASCADE,
    tmin_c              DOUBLE PRECISION NOT NULL,
    tmax_c              DOUBLE PRECISION NOT NULL CHECK (tmax_c >= tmin_c),
    dew_point_c         DOUBLE PRECISION,
    rh_min_pct          DOUBLE PRECISION,
    rh_max_pct          DOUBLE PRECISION,
    vapour_pressure_kpa DOUBLE PRECISION,
    solar_mj_m2         DOUBLE PRECISION,
    wind_m_s            DOUBLE PRECISION,
    rain_mm             DOUBLE PRECISION,
    PRIMARY KEY (site_id, date, import_id)
);
CREATE INDEX weather_days_import_id ON weather_days (import_id);
