DELETE FROM ticks WHERE what IN ('clock_set', 'backup_battery');
ALTER TABLE ticks
    DROP CONSTRAINT ticks_what_check,
    ADD CONSTRAINT ticks_what_check CHECK (what IN ('keyed_in', 'called', 'wired', 'tested', 'calibrated'));
