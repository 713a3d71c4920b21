-- Whether an answer held days and no hours: the next one is then a day away.
ALTER TABLE weather_answers ADD COLUMN by_day BOOLEAN NOT NULL DEFAULT FALSE;
