-- What is looked after at a box by the wall clock.
ALTER TABLE ticks
    DROP CONSTRAINT ticks_what_check,
    ADD CONSTRAINT ticks_what_check CHECK (
        what IN ('keyed_in', 'called', 'wired', 'tested', 'calibrated', 'clock_set', 'backup_battery')
    );
