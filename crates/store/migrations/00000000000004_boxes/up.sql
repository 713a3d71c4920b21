-- A box is an identity of its site; its place and card are in versions, and so are its settings.
CREATE TABLE controllers (
    id               BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id          BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    number           INT NOT NULL CHECK (number BETWEEN 1 AND 250),
    -- Whoever has this may read the coming runs as a calendar, without signing in.
    calendar_token   TEXT NOT NULL UNIQUE,
    fallback_version INT,
    created_at       TIMESTAMPTZ NOT NULL DEFAULT now(),
    removed_at       TIMESTAMPTZ
);
CREATE INDEX controllers_site_id ON controllers (site_id);
CREATE UNIQUE INDEX controllers_number ON controllers (site_id, number) WHERE removed_at IS NULL;

CREATE TABLE controller_versions (
    controller_id BIGINT NOT NULL REFERENCES controllers (id) ON DELETE CASCADE,
    version       INT NOT NULL CHECK (version > 0),
    place         TEXT NOT NULL,
    -- A card file, with its own format and version.
    card          JSONB NOT NULL,
    saved_by      BIGINT NOT NULL REFERENCES users (id),
    saved_at      TIMESTAMPTZ NOT NULL DEFAULT now(),
    PRIMARY KEY (controller_id, version)
);
CREATE INDEX controller_versions_saved_by ON controller_versions (saved_by);

CREATE TABLE settings_versions (
    controller_id BIGINT NOT NULL REFERENCES controllers (id) ON DELETE CASCADE,
    version       INT NOT NULL CHECK (version > 0),
    kind          TEXT NOT NULL CHECK (kind IN ('as_found', 'changed', 'planned', 'restored')),
    reason        TEXT NOT NULL,
    -- The settings part of a settings file.
    settings      JSONB NOT NULL,
    saved_by      BIGINT NOT NULL REFERENCES users (id),
    saved_at      TIMESTAMPTZ NOT NULL DEFAULT now(),
    PRIMARY KEY (controller_id, version)
);
CREATE INDEX settings_versions_saved_by ON settings_versions (saved_by);
ALTER TABLE controllers ADD CONSTRAINT controllers_fallback
    FOREIGN KEY (id, fallback_version) REFERENCES settings_versions (controller_id, version);
CREATE INDEX controllers_fallback ON controllers (id, fallback_version);

-- Cards and ordinances that many sites share.
CREATE TABLE library_entries (
    id         BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind       TEXT NOT NULL CHECK (kind IN ('card', 'ordinance')),
    created_at TIMESTAMPTZ NOT NULL DEFAULT now(),
    removed_at TIMESTAMPTZ
);
CREATE TABLE library_versions (
    entry_id BIGINT NOT NULL REFERENCES library_entries (id) ON DELETE CASCADE,
    version  INT NOT NULL CHECK (version > 0),
    -- A card file or an ordinance file.
    body     JSONB NOT NULL,
    saved_by BIGINT NOT NULL REFERENCES users (id),
    saved_at TIMESTAMPTZ NOT NULL DEFAULT now(),
    PRIMARY KEY (entry_id, version)
);
CREATE INDEX library_versions_saved_by ON library_versions (saved_by);

-- Which ordinances a site keeps to; the newest row of an ordinance counts.
CREATE TABLE site_ordinances (
    id           BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id      BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    ordinance_id BIGINT NOT NULL REFERENCES library_entries (id) ON DELETE CASCADE,
    house_number TEXT NOT NULL CHECK (house_number IN ('odd', 'even')),
    permits      JSONB NOT NULL,
    lifted       BOOLEAN NOT NULL DEFAULT FALSE,
    saved_by     BIGINT NOT NULL REFERENCES users (id),
    saved_at     TIMESTAMPTZ NOT NULL DEFAULT now()
);
CREATE INDEX site_ordinances_site_id ON site_ordinances (site_id, ordinance_id, id);
CREATE INDEX site_ordinances_ordinance_id ON site_ordinances (ordinance_id);
CREATE INDEX site_ordinances_saved_by ON site_ordinances (saved_by);

ALTER TABLE zone_versions ADD COLUMN box_number INT NOT NULL DEFAULT 1 CHECK (box_number BETWEEN 1 AND 250);

-- The small box of each site becomes its first one, on an ordinary card with its limits.
INSERT INTO controllers (site_id, number, calendar_token)
SELECT id, 1, replace(gen_random_uuid()::text || gen_random_uuid()::text, '-', '') FROM sites;
INSERT INTO controller_versions (controller_id, version, place, card, saved_by, saved_at)
SELECT c.id, 1, v.controller_name,
       jsonb_build_object('format', 'upland-almanac-card', 'version', 1, 'card', jsonb_build_object(
           'name', 'Ordinary box', 'stations', v.controller_stations, 'programs', v.controller_programs,
           'starts_per_program', v.controller_starts, 'start_step_min', 1, 'run_step_s', 60,
           'longest_run_s', 14400, 'weekdays', true, 'odd_even', true, 'longest_interval_days', 31,
           'never_days', true, 'percentage_min', 10, 'percentage_max', 200, 'percentage_step', 10,
           'percentage_scope', 'program', 'percentage_applies_to', 'total', 'rounding', 'nearest',
           'rounding_step_s', 1, 'cycle_and_soak', true, 'overlapping_programs', 'queue',
           'longest_delay_s', 1800, 'longest_overlap_s', 0, 'longest_rain_delay_days', 14,
           'omit_hours', true, 'loops', true, 'lighting', true)),
       v.saved_by, v.saved_at
FROM controllers c
JOIN LATERAL (SELECT * FROM site_versions s WHERE s.site_id = c.site_id ORDER BY version DESC LIMIT 1) v ON TRUE;

ALTER TABLE site_versions
    DROP COLUMN controller_name,
    DROP COLUMN controller_stations,
    DROP COLUMN controller_programs,
    DROP COLUMN controller_starts;
