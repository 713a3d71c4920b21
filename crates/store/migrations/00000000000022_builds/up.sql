-- The programs that worked on this database, in the order in which they came: what an earlier one worked out ahead is in
-- its words and by its rules, and is made anew.
CREATE TABLE builds (
    number   BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name     TEXT NOT NULL UNIQUE,
    first_at TIMESTAMPTZ NOT NULL DEFAULT now()
);
ALTER TABLE rounds ADD COLUMN build BIGINT NOT NULL DEFAULT 0;
