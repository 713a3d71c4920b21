DROP TABLE site_normals, zone_events, catch_tests, weather_mappings, weather_normals, weather_choices, weather_overrules, weather_hours;
ALTER TABLE zone_versions DROP COLUMN planting;
DELETE FROM weather_drafts;
ALTER TABLE weather_drafts
    DROP COLUMN source_id,
    DROP COLUMN mapping,
    DROP COLUMN cancel,
    DROP CONSTRAINT weather_drafts_state_check,
    ADD CONSTRAINT weather_drafts_state_check CHECK (state IN ('preview', 'running', 'done', 'failed'));
-- A site had one record: its own sensor's imports stay, the others go with what could not be held.
DELETE FROM weather_imports i USING weather_sources s
WHERE s.id = i.source_id AND s.id <> (SELECT min(f.id) FROM weather_sources f WHERE f.site_id = s.site_id);
DELETE FROM weather_days WHERE tmin_c IS NULL OR tmax_c IS NULL OR tmin_c > tmax_c;
ALTER TABLE weather_days
    ALTER COLUMN tmin_c SET NOT NULL,
    ALTER COLUMN tmax_c SET NOT NULL,
    ADD CONSTRAINT weather_days_check CHECK (tmax_c >= tmin_c);
ALTER TABLE weather_imports DROP COLUMN source_id, DROP COLUMN hours;
DROP TABLE weather_sources;
