-- One word for one thing: what opens valves on a timetable is a controller everywhere.
ALTER TABLE zones RENAME COLUMN box_number TO controller_number;
ALTER TABLE zone_versions RENAME COLUMN box_number TO controller_number;
ALTER TABLE searches RENAME COLUMN box_number TO controller_number;
ALTER TABLE round_calls RENAME COLUMN box_id TO controller_id;
