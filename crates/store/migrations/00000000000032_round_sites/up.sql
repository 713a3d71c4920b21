-- What the list of sites shows of each, worked out with its round.
ALTER TABLE rounds
    -- Of each zone in the order of stations how it should look by its account: d dry, r right, w wet.
    ADD COLUMN zones        TEXT NOT NULL DEFAULT '',
    -- Runs of the last night and of tonight: night (0, 1), minutes from noon it begins and ends, 1 where a sensor prevents it.
    ADD COLUMN runs         INT[] NOT NULL DEFAULT '{}',
    -- Rain of the last days, mm, the newest last.
    ADD COLUMN rain         DOUBLE PRECISION[] NOT NULL DEFAULT '{}',
    ADD COLUMN day          DATE,
    ADD COLUMN last_visit   DATE,
    ADD COLUMN look_again   DATE,
    ADD COLUMN silent       INT NOT NULL DEFAULT 0,
    ADD COLUMN record_ended DATE;
