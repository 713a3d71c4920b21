DROP TABLE day_routes;
