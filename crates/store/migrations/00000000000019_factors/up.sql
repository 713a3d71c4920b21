-- A second factor: a secret shared with a person's telephone, and codes for when that is lost.
ALTER TABLE users
    ADD COLUMN factor_secret BYTEA,
    -- Shown to the person and not confirmed by a code yet.
    ADD COLUMN factor_pending BYTEA,
    -- The last half minute of which a code opened: none opens twice.
    ADD COLUMN factor_step BIGINT NOT NULL DEFAULT 0;
CREATE TABLE spare_codes (
    user_id     BIGINT NOT NULL REFERENCES users (id) ON DELETE CASCADE,
    code_sha256 BYTEA NOT NULL,
    PRIMARY KEY (user_id, code_sha256)
);
