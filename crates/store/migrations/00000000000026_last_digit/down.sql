UPDATE site_ordinances SET house_number = CASE WHEN house_number ~ '^[13579]$' THEN 'odd' ELSE 'even' END
WHERE house_number ~ '^[0-9]$';
ALTER TABLE site_ordinances
    DROP CONSTRAINT site_ordinances_house_number_check,
    ADD CONSTRAINT site_ordinances_house_number_check CHECK (house_number IN ('odd', 'even'));
