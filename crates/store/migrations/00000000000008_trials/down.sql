DROP TABLE trials;
DROP TABLE trial_ways;
