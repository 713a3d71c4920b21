-- What was hashed cannot be read back: every box gets an address of its own that nobody has yet.
ALTER TABLE controllers ADD COLUMN calendar_token TEXT UNIQUE;
UPDATE controllers SET calendar_token = replace(gen_random_uuid()::text || gen_random_uuid()::text, '-', '');
ALTER TABLE controllers ALTER COLUMN calendar_token SET NOT NULL;
ALTER TABLE controllers DROP COLUMN calendar_sha256, DROP COLUMN calendar_made_at;
