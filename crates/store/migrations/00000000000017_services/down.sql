ALTER TABLE weather_drafts DROP COLUMN of_service;
DROP TABLE weather_forecasts;
DROP TABLE weather_answers;
DROP TABLE weather_services;
