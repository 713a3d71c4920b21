-- Visits: one a site and day on the site's clock, so that two people who walk it on one day write one visit.
CREATE TABLE visits (
    id         BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id    BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    on_date    DATE NOT NULL,
    begun_by   BIGINT NOT NULL REFERENCES users (id),
    begun_at   TIMESTAMPTZ NOT NULL DEFAULT app_now(),
    -- When to look again, once a lever was accepted.
    look_again DATE,
    removed_at TIMESTAMPTZ
);
CREATE UNIQUE INDEX visits_day ON visits (site_id, on_date) WHERE removed_at IS NULL;
CREATE INDEX visits_begun_by ON visits (begun_by);

-- What was entered, as it came: a later entry of a person about the same thing stands in place of an earlier one.
CREATE TABLE visit_entries (
    id          BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    visit_id    BIGINT NOT NULL REFERENCES visits (id) ON DELETE CASCADE,
    -- Made where it was entered, so that what is sent twice is kept once.
    client_key  TEXT NOT NULL UNIQUE,
    kind        TEXT NOT NULL CHECK (kind IN ('zone', 'box', 'sensor', 'site')),
    -- The zone, box or sensor that it is about; 0 for the site.
    about       BIGINT NOT NULL,
    -- As the visit file has it.
    body        JSONB NOT NULL,
    at          TIMESTAMPTZ NOT NULL,
    -- How far the clock where it was entered was off, seconds; `at` is set right by it.
    clock_off_s BIGINT NOT NULL DEFAULT 0,
    said_by     BIGINT NOT NULL REFERENCES users (id),
    said_at     TIMESTAMPTZ NOT NULL DEFAULT app_now(),
    undone_at   TIMESTAMPTZ
);
CREATE INDEX visit_entries_visit ON visit_entries (visit_id, at);
CREATE INDEX visit_entries_said_by ON visit_entries (said_by);

-- Photographs, made smaller, turned right, without place and device. Here, or as a file of this name in a folder.
CREATE TABLE visit_photos (
    id         BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    visit_id   BIGINT NOT NULL REFERENCES visits (id) ON DELETE CASCADE,
    zone_id    BIGINT REFERENCES zones (id) ON DELETE SET NULL,
    client_key TEXT NOT NULL UNIQUE,
    jpeg       BYTEA,
    file_name  TEXT,
    width      INT NOT NULL,
    height     INT NOT NULL,
    said_by    BIGINT NOT NULL REFERENCES users (id),
    said_at    TIMESTAMPTZ NOT NULL DEFAULT app_now(),
    undone_at  TIMESTAMPTZ,
    CHECK ((jpeg IS NULL) <> (file_name IS NULL))
);
CREATE INDEX visit_photos_visit ON visit_photos (visit_id);
CREATE INDEX visit_photos_zone ON visit_photos (zone_id);
CREATE INDEX visit_photos_said_by ON visit_photos (said_by);

-- Levers that were turned, with what was foretold.
CREATE TABLE visit_levers (
    id         BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    visit_id   BIGINT NOT NULL REFERENCES visits (id) ON DELETE CASCADE,
    code       TEXT NOT NULL,
    cause      TEXT NOT NULL,
    words      TEXT NOT NULL,
    -- What was foretold for each zone.
    foretold   JSONB NOT NULL,
    look_again DATE NOT NULL,
    said_by    BIGINT NOT NULL REFERENCES users (id),
    said_at    TIMESTAMPTZ NOT NULL DEFAULT app_now()
);
CREATE INDEX visit_levers_visit ON visit_levers (visit_id);
CREATE INDEX visit_levers_said_by ON visit_levers (said_by);

-- Ticks that count: keyed in, called, wired, tested, calibrated. A tick is undone by another press.
CREATE TABLE ticks (
    id         BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id    BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    what       TEXT NOT NULL CHECK (what IN ('keyed_in', 'called', 'wired', 'tested', 'calibrated')),
    -- The box or sensor that it is about.
    about      BIGINT NOT NULL,
    -- A version of settings, or the week of a call as days since 1970.
    number     INT NOT NULL DEFAULT 0,
    at         TIMESTAMPTZ NOT NULL,
    said_by    BIGINT NOT NULL REFERENCES users (id),
    said_at    TIMESTAMPTZ NOT NULL DEFAULT app_now(),
    undone_at  TIMESTAMPTZ
);
CREATE UNIQUE INDEX ticks_one ON ticks (site_id, what, about, number) WHERE undone_at IS NULL;
CREATE INDEX ticks_said_by ON ticks (said_by);

-- Notes in the logbook; a correction is a note of its own.
CREATE TABLE site_notes (
    id        BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site_id   BIGINT NOT NULL REFERENCES sites (id) ON DELETE CASCADE,
    zone_id   BIGINT REFERENCES zones (id) ON DELETE SET NULL,
    words     TEXT NOT NULL,
    -- The entry of the logbook that it corrects.
    corrects  BIGINT,
    said_by   BIGINT NOT NULL REFERENCES users (id),
    said_at   TIMESTAMPTZ NOT NULL DEFAULT app_now(),
    undone_at TIMESTAMPTZ
);
CREATE INDEX site_notes_site ON site_notes (site_id);
CREATE INDEX site_notes_zone ON site_notes (zone_id);
CREATE INDEX site_notes_said_by ON site_notes (said_by);

-- The events become the logbook: what each says in words, and the zone that it is about.
ALTER TABLE events
    ADD COLUMN words TEXT NOT NULL DEFAULT '',
    ADD COLUMN zone_id BIGINT,
    ADD COLUMN found TSVECTOR GENERATED ALWAYS AS (to_tsvector('simple', words)) STORED;
UPDATE events SET words = after #>> '{}' WHERE jsonb_typeof(after) = 'string';
UPDATE events SET zone_id = subject_id WHERE subject = 'zone';
UPDATE events e SET zone_id = z.zone_id FROM zone_events z WHERE e.subject = 'zone_event' AND z.id = e.subject_id;
UPDATE events e SET zone_id = c.zone_id FROM catch_tests c WHERE e.subject = 'catch_test' AND c.id = e.subject_id;
CREATE INDEX events_found ON events USING GIN (found);
CREATE INDEX events_subject ON events (site_id, subject, id);
CREATE INDEX events_zone ON events (site_id, zone_id, id) WHERE zone_id IS NOT NULL;
CREATE INDEX events_at ON events (site_id, at);
