-- From which date a version of a sensor counts: what is set today says nothing of the nights before. A version that was
-- saved before this counts from the day on which it was saved.
ALTER TABLE sensor_versions ADD COLUMN since DATE;
UPDATE sensor_versions SET since = (saved_at AT TIME ZONE 'UTC')::date;
ALTER TABLE sensor_versions
    ALTER COLUMN since SET NOT NULL,
    ALTER COLUMN since SET DEFAULT (app_now() AT TIME ZONE 'UTC')::date;
