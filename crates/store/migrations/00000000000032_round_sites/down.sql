ALTER TABLE rounds
    DROP COLUMN zones, DROP COLUMN runs, DROP COLUMN rain, DROP COLUMN day, DROP COLUMN last_visit, DROP COLUMN look_again,
    DROP COLUMN silent, DROP COLUMN record_ended;
