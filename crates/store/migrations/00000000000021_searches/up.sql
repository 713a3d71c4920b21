-- The search for a better way that was asked for last at a site, and what it found. A worker does it; whoever takes it up
-- after a killed one begins it anew.
CREATE TABLE searches (
    site_id    BIGINT PRIMARY KEY REFERENCES sites (id) ON DELETE CASCADE,
    -- Rises when another takes its place: one that still goes on for the one before ends without effect.
    number     INT NOT NULL,
    box_number INT NOT NULL,
    -- What may change.
    space      TEXT[] NOT NULL,
    goal_pct   INT NOT NULL,
    -- The weather and prices, as the address of the trial has them.
    asked      TEXT NOT NULL,
    begun_by   BIGINT NOT NULL REFERENCES users (id),
    done       INT NOT NULL DEFAULT 0,
    most       INT NOT NULL DEFAULT 0,
    stop       BOOLEAN NOT NULL DEFAULT false,
    ended_at   TIMESTAMPTZ,
    -- Whether it went to its end, what it tried, where its days came from, the revision of the site that it saw.
    complete   BOOLEAN NOT NULL DEFAULT false,
    runs       INT NOT NULL DEFAULT 0,
    origin     TEXT NOT NULL DEFAULT '',
    revision   BIGINT NOT NULL DEFAULT 0,
    -- A way file; none when nothing keeps to law and window.
    way        JSONB,
    -- Why nothing was searched.
    refusals   TEXT[] NOT NULL DEFAULT '{}'
);
CREATE INDEX searches_begun_by ON searches (begun_by);
