DROP INDEX events_at, events_zone, events_subject, events_found;
ALTER TABLE events DROP COLUMN found, DROP COLUMN zone_id, DROP COLUMN words;
DROP TABLE site_notes, ticks, visit_levers, visit_photos, visit_entries, visits;
