-- What the pages over all sites show, worked out ahead of them by workers: of each site once an hour, and whenever its
-- facts change. It may be thrown away; only since when a notice stands is known nowhere else.
DROP TABLE site_normals;
CREATE TABLE rounds (
    site_id  BIGINT PRIMARY KEY REFERENCES sites (id) ON DELETE CASCADE,
    -- The facts that it follows from, and the application's time that it is about.
    revision BIGINT NOT NULL,
    readings BIGINT NOT NULL,
    at       TIMESTAMPTZ NOT NULL
);
CREATE TABLE round_nights (
    site_id  BIGINT NOT NULL REFERENCES rounds (site_id) ON DELETE CASCADE,
    number   INT NOT NULL,
    place    TEXT NOT NULL,
    state    TEXT NOT NULL CHECK (state IN ('wrong', 'unknown', 'right')),
    -- One, or one for each habit of writing times and dates.
    sentence TEXT[] NOT NULL,
    PRIMARY KEY (site_id, number)
);
CREATE TABLE round_calls (
    site_id      BIGINT NOT NULL REFERENCES rounds (site_id) ON DELETE CASCADE,
    number       INT NOT NULL,
    -- A percentage of the box, in their order.
    slot         INT NOT NULL,
    box_id       BIGINT NOT NULL,
    place        TEXT NOT NULL,
    -- Empty: of the whole box.
    program      TEXT NOT NULL,
    set_pct      INT NOT NULL,
    -- None: nothing needs water.
    advised_pct  INT,
    because      TEXT NOT NULL,
    week         DATE NOT NULL,
    record_ended DATE,
    PRIMARY KEY (site_id, number, slot)
);
CREATE TABLE notices (
    id        BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id   BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    kind      TEXT NOT NULL CHECK (kind IN ('night', 'finding', 'percentage', 'upkeep', 'sensor', 'weather')),
    -- What tells it from others of its kind at the site.
    about     TEXT NOT NULL,
    -- 3 acts against plants, law or water, 2 will, 1 is a task.
    weight    INT NOT NULL,
    words     TEXT[] NOT NULL,
    href      TEXT NOT NULL,
    first_at  TIMESTAMPTZ NOT NULL,
    ended_at  TIMESTAMPTZ,
    put_off_until TIMESTAMPTZ,
    put_off_by BIGINT REFERENCES users (id)
);
CREATE UNIQUE INDEX notices_stands ON notices (site_id, kind, about) WHERE ended_at IS NULL;
CREATE INDEX notices_put_off_by ON notices (put_off_by);
CREATE INDEX notices_ended ON notices (ended_at);

-- One mail a day, by choice.
ALTER TABLE users
    ADD COLUMN mail_to   TEXT NOT NULL DEFAULT '',
    -- Minutes after midnight by the wall clock of the zone.
    ADD COLUMN mail_at   INT NOT NULL DEFAULT 360 CHECK (mail_at BETWEEN 0 AND 1439),
    ADD COLUMN mail_zone TEXT NOT NULL DEFAULT 'UTC';
CREATE TABLE mails (
    user_id  BIGINT NOT NULL REFERENCES users (id) ON DELETE CASCADE,
    day      DATE NOT NULL,
    -- Notices that began after this instant were new in it.
    since    TIMESTAMPTZ NOT NULL,
    until    TIMESTAMPTZ NOT NULL,
    notices  INT NOT NULL,
    -- None: on its way. A mail that is sent again is the same one.
    sent_at  TIMESTAMPTZ,
    fault    TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (user_id, day)
);
