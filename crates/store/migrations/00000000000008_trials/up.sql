-- Ways of watering that somebody described for a site, as the way file has them.
CREATE TABLE trial_ways (
    id         BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id    BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    name       TEXT NOT NULL,
    way        JSONB NOT NULL,
    saved_by   BIGINT NOT NULL REFERENCES users (id),
    saved_at   TIMESTAMPTZ NOT NULL DEFAULT app_now(),
    removed_at TIMESTAMPTZ
);
-- One name once, so that lists and addresses are clear.
CREATE UNIQUE INDEX trial_ways_name ON trial_ways (site_id, name) WHERE removed_at IS NULL;

-- Trials with everything that went in, as the trial file has it, and what they came to. Never changed: a trial that is
-- cited is the same for ever.
CREATE TABLE trials (
    id         BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id    BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    name       TEXT NOT NULL,
    -- Text, not JSONB: kept byte for byte.
    file       TEXT NOT NULL,
    result     TEXT NOT NULL,
    -- The answer in one sentence, for lists.
    answer     TEXT NOT NULL,
    saved_by   BIGINT NOT NULL REFERENCES users (id),
    saved_at   TIMESTAMPTZ NOT NULL DEFAULT app_now(),
    removed_at TIMESTAMPTZ
);
CREATE INDEX trials_site ON trials (site_id);
