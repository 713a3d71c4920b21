ALTER TABLE zones RENAME COLUMN controller_number TO box_number;
ALTER TABLE zone_versions RENAME COLUMN controller_number TO box_number;
ALTER TABLE searches RENAME COLUMN controller_number TO box_number;
ALTER TABLE round_calls RENAME COLUMN controller_id TO box_id;
