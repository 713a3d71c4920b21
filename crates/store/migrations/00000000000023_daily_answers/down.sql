ALTER TABLE weather_answers DROP COLUMN by_day;
