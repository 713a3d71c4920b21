-- By which the list of sites is narrowed, worked out with each round: names of controller types, and of ordinances kept to.
ALTER TABLE rounds
    ADD COLUMN controller_types TEXT[] NOT NULL DEFAULT '{}',
    ADD COLUMN ordinances       TEXT[] NOT NULL DEFAULT '{}';
