-- What a person asked of a day's route: sites, hours, appointments. The order is worked out from it.
CREATE TABLE day_routes (
    user_id  BIGINT NOT NULL REFERENCES users (id) ON DELETE CASCADE,
    on_date  DATE NOT NULL,
    -- As store::routes::RouteAsked writes it.
    asked    JSONB NOT NULL,
    saved_at TIMESTAMPTZ NOT NULL DEFAULT app_now(),
    PRIMARY KEY (user_id, on_date)
);
