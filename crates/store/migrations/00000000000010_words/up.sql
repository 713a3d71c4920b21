-- How a person reads times and dates.
ALTER TABLE users
    ADD COLUMN twelve_hours BOOLEAN NOT NULL DEFAULT FALSE,
    ADD COLUMN month_first BOOLEAN NOT NULL DEFAULT FALSE;

-- What somebody typed into the settings of a box and has not saved yet: one a person and box.
CREATE TABLE settings_drafts (
    user_id       BIGINT NOT NULL REFERENCES users (id) ON DELETE CASCADE,
    controller_id BIGINT NOT NULL REFERENCES controllers (id) ON DELETE CASCADE,
    -- The version that it was begun on.
    base_version  INT NOT NULL,
    -- Form lines as they were typed.
    fields        JSONB NOT NULL,
    typed_at      TIMESTAMPTZ NOT NULL DEFAULT app_now(),
    PRIMARY KEY (user_id, controller_id)
);
CREATE INDEX settings_drafts_controller ON settings_drafts (controller_id);
