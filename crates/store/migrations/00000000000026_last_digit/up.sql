-- Some ordinances go by the last digit of the house number.
ALTER TABLE site_ordinances
    DROP CONSTRAINT site_ordinances_house_number_check,
    ADD CONSTRAINT site_ordinances_house_number_check CHECK (house_number ~ '^(odd|even|[0-9])$');
