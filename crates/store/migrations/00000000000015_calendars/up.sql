-- A calendar's address is shown once; only the hash of its secret is kept. Those that were handed out go on.
ALTER TABLE controllers ADD COLUMN calendar_sha256 BYTEA UNIQUE, ADD COLUMN calendar_made_at TIMESTAMPTZ;
UPDATE controllers SET calendar_sha256 = sha256(convert_to(calendar_token, 'UTF8')), calendar_made_at = created_at;
ALTER TABLE controllers DROP COLUMN calendar_token;
