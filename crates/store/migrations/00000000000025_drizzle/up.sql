-- What rain below a fifth of a day's ET0 counts for: FAO-56 chapter 8 leaves it out.
ALTER TABLE site_versions ADD COLUMN drizzle TEXT NOT NULL DEFAULT 'left_out' CHECK (drizzle IN ('left_out', 'counted'));
