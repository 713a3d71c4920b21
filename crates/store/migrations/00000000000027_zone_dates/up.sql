-- From which date a survey of a zone counts: a nozzle changed today says nothing of the nights before. NULL: it was so all
-- along. A survey that was saved before this counts from the day on which it was saved, the first one for all time.
ALTER TABLE zone_versions ADD COLUMN since DATE;
UPDATE zone_versions SET since = (saved_at AT TIME ZONE 'UTC')::date WHERE version > 1;
