DROP TABLE step_ticks;
DROP TABLE sent_entries;
