DROP TABLE mails, notices, round_calls, round_nights, rounds;
ALTER TABLE users DROP COLUMN mail_to, DROP COLUMN mail_at, DROP COLUMN mail_zone;
CREATE TABLE site_normals (
    site_id         BIGINT PRIMARY KEY REFERENCES sites (id) ON DELETE CASCADE,
    weather_version BIGINT NOT NULL,
    site_version    INT NOT NULL,
    body            JSONB NOT NULL
);
