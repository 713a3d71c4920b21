-- What a phone kept without a network and sends later: each entry counts once, also when its answer was lost.
CREATE TABLE sent_entries (
    -- Made by the phone, 32 hexadecimal digits.
    client_key TEXT PRIMARY KEY CHECK (client_key ~ '^[0-9a-f]{32}$'),
    user_id    BIGINT NOT NULL REFERENCES users (id) ON DELETE CASCADE,
    sent_at    TIMESTAMPTZ NOT NULL DEFAULT now(),
    -- Empty while it is being applied.
    applied_at TIMESTAMPTZ
);

CREATE INDEX sent_entries_sent_at ON sent_entries (sent_at);

-- Ticks of a list of steps: programming a controller, a station test. A list belongs to a controller and a version or a
-- day; its steps are named by the page.
CREATE TABLE step_ticks (
    site_id   BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    list      TEXT NOT NULL CHECK (length(list) BETWEEN 1 AND 80),
    step      TEXT NOT NULL CHECK (length(step) BETWEEN 1 AND 80),
    ticked_by BIGINT NOT NULL REFERENCES users (id) ON DELETE CASCADE,
    ticked_at TIMESTAMPTZ NOT NULL,
    PRIMARY KEY (site_id, list, step)
);
