ALTER TABLE site_versions
    ADD COLUMN controller_name     TEXT NOT NULL DEFAULT 'Box',
    ADD COLUMN controller_stations INT NOT NULL DEFAULT 12 CHECK (controller_stations > 0),
    ADD COLUMN controller_programs INT NOT NULL DEFAULT 3 CHECK (controller_programs > 0),
    ADD COLUMN controller_starts   INT NOT NULL DEFAULT 4 CHECK (controller_starts > 0);
UPDATE site_versions s
SET controller_name     = v.place,
    controller_stations = (v.card -> 'card' ->> 'stations')::int,
    controller_programs = (v.card -> 'card' ->> 'programs')::int,
    controller_starts   = (v.card -> 'card' ->> 'starts_per_program')::int
FROM controllers c
JOIN LATERAL (
    SELECT * FROM controller_versions w WHERE w.controller_id = c.id ORDER BY version DESC LIMIT 1
) v ON TRUE
WHERE c.site_id = s.site_id AND c.number = 1 AND c.removed_at IS NULL;
ALTER TABLE site_versions
    ALTER COLUMN controller_name DROP DEFAULT,
    ALTER COLUMN controller_stations DROP DEFAULT,
    ALTER COLUMN controller_programs DROP DEFAULT,
    ALTER COLUMN controller_starts DROP DEFAULT;
ALTER TABLE zone_versions DROP COLUMN box_number;
DROP TABLE site_ordinances;
DROP TABLE library_versions;
DROP TABLE library_entries;
ALTER TABLE controllers DROP CONSTRAINT controllers_fallback;
DROP TABLE settings_versions;
DROP TABLE controller_versions;
DROP TABLE controllers;
