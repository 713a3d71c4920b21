DROP TABLE weather_days;
DROP TABLE weather_imports;
DROP TABLE weather_drafts;
