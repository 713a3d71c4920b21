-- Every write to a site raises its revision in the same transaction, so that what was computed from its
-- facts can be kept under it by every server on the database.
ALTER TABLE sites ADD COLUMN revision BIGINT NOT NULL DEFAULT 1;

-- Readings come often and from many devices at once: they raise a number of their own.
CREATE TABLE site_readings (
    site_id  BIGINT PRIMARY KEY REFERENCES sites (id) ON DELETE CASCADE,
    revision BIGINT NOT NULL DEFAULT 1,
    -- When a device of the site last read anything.
    last_at  TIMESTAMPTZ NOT NULL
);
INSERT INTO site_readings (site_id, last_at)
SELECT s.site_id, max(b.at) FROM sensor_buckets b JOIN sensors s ON s.id = b.sensor_id GROUP BY s.site_id;

-- Who changed what, when, from what to what. A versioned thing names its versions, the rest its values.
CREATE TABLE events (
    id         BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    -- Empty: a thing of all sites, such as a person's role or a card of the library.
    site_id    BIGINT REFERENCES sites (id) ON DELETE CASCADE,
    at         TIMESTAMPTZ NOT NULL DEFAULT now(),
    -- Empty: the program itself.
    actor      BIGINT REFERENCES users (id),
    subject    TEXT NOT NULL,
    subject_id BIGINT,
    action     TEXT NOT NULL,
    before     JSONB,
    after      JSONB
);
CREATE INDEX events_site_id ON events (site_id, id);
CREATE INDEX events_actor ON events (actor);

-- The station that a zone has now, so that no two of a box can have the same.
ALTER TABLE zones ADD COLUMN box_number INT, ADD COLUMN number INT;
UPDATE zones z SET box_number = v.box_number, number = v.number
FROM (SELECT DISTINCT ON (zone_id) zone_id, box_number, number FROM zone_versions ORDER BY zone_id, version DESC) v
WHERE v.zone_id = z.id;
ALTER TABLE zones ALTER COLUMN box_number SET NOT NULL, ALTER COLUMN number SET NOT NULL;
-- Two saves at once could make such a pair before; the later one is taken down and can be restored with
-- another number.
UPDATE zones later SET removed_at = now()
FROM zones earlier
WHERE earlier.site_id = later.site_id AND earlier.box_number = later.box_number AND earlier.number = later.number
  AND earlier.id < later.id AND earlier.removed_at IS NULL AND later.removed_at IS NULL;
CREATE UNIQUE INDEX zones_station ON zones (site_id, box_number, number) WHERE removed_at IS NULL;

-- One own source a site; a second one, made by two imports at once, becomes a station at the site.
UPDATE weather_sources later SET kind = 'station'
FROM weather_sources earlier
WHERE earlier.site_id = later.site_id AND earlier.kind = 'own' AND later.kind = 'own' AND earlier.id < later.id
  AND earlier.removed_at IS NULL AND later.removed_at IS NULL;
CREATE UNIQUE INDEX weather_sources_own ON weather_sources (site_id) WHERE kind = 'own' AND removed_at IS NULL;

-- The application's clock: by so many seconds it is ahead of real time. No row: it shows real time.
CREATE TABLE clock (
    only_row      BOOLEAN PRIMARY KEY DEFAULT TRUE CHECK (only_row),
    ahead_seconds BIGINT NOT NULL
);

-- What the application's clock shows; what people say and save is dated by it.
CREATE FUNCTION app_now() RETURNS TIMESTAMPTZ LANGUAGE SQL STABLE AS
    'SELECT now() + make_interval(secs => COALESCE((SELECT ahead_seconds FROM clock), 0))';
ALTER TABLE events ALTER COLUMN at SET DEFAULT app_now();
ALTER TABLE site_versions ALTER COLUMN saved_at SET DEFAULT app_now();
ALTER TABLE zone_versions ALTER COLUMN saved_at SET DEFAULT app_now();
ALTER TABLE controller_versions ALTER COLUMN saved_at SET DEFAULT app_now();
ALTER TABLE settings_versions ALTER COLUMN saved_at SET DEFAULT app_now();
ALTER TABLE library_versions ALTER COLUMN saved_at SET DEFAULT app_now();
ALTER TABLE site_ordinances ALTER COLUMN saved_at SET DEFAULT app_now();
ALTER TABLE weather_sources ALTER COLUMN saved_at SET DEFAULT app_now();
ALTER TABLE weather_imports ALTER COLUMN imported_at SET DEFAULT app_now();
ALTER TABLE weather_overrules ALTER COLUMN said_at SET DEFAULT app_now();
ALTER TABLE weather_choices ALTER COLUMN chosen_at SET DEFAULT app_now();
ALTER TABLE weather_normals ALTER COLUMN saved_at SET DEFAULT app_now();
ALTER TABLE weather_mappings ALTER COLUMN saved_at SET DEFAULT app_now();
ALTER TABLE catch_tests ALTER COLUMN saved_at SET DEFAULT app_now();
ALTER TABLE zone_events ALTER COLUMN said_at SET DEFAULT app_now();
ALTER TABLE sensor_versions ALTER COLUMN saved_at SET DEFAULT app_now();
ALTER TABLE sensor_events ALTER COLUMN said_at SET DEFAULT app_now();
ALTER TABLE site_plans ALTER COLUMN saved_at SET DEFAULT app_now();
ALTER TABLE sensor_devices ALTER COLUMN made_at SET DEFAULT app_now();
