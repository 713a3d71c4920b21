ALTER TABLE zone_versions DROP COLUMN window_until, DROP COLUMN window_from;
ALTER TABLE site_versions
    DROP COLUMN grow_in_until,
    DROP COLUMN grow_in_from,
    DROP COLUMN second_until,
    DROP COLUMN second_from;
