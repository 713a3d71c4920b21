-- A second window of a site, the one of zones that grow in, and a zone's own.
ALTER TABLE site_versions
    ADD COLUMN second_from TIME,
    ADD COLUMN second_until TIME CHECK (second_until <> second_from),
    ADD COLUMN grow_in_from TIME,
    ADD COLUMN grow_in_until TIME CHECK (grow_in_until <> grow_in_from),
    ADD CHECK ((second_from IS NULL) = (second_until IS NULL)),
    ADD CHECK ((grow_in_from IS NULL) = (grow_in_until IS NULL));
ALTER TABLE zone_versions
    ADD COLUMN window_from TIME,
    ADD COLUMN window_until TIME CHECK (window_until <> window_from),
    ADD CHECK ((window_from IS NULL) = (window_until IS NULL));
