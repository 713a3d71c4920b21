//! The tables of weather services, as Diesel sees them.

use crate::schema::{users, weather_sources};

diesel::table! {
    weather_services (source_id) {
        source_id -> BigInt,
        measured_url -> Text,
        foretold_url -> Text,
        every_min -> Integer,
        stopped -> Bool,
        version -> Integer,
        saved_by -> BigInt,
        saved_at -> Timestamptz,
    }
}

diesel::table! {
    weather_answers (id) {
        id -> BigInt,
        source_id -> BigInt,
        foretold -> Bool,
        asked_at -> Timestamptz,
        took_ms -> Integer,
        bytes -> Integer,
        held -> Integer,
        changed -> Integer,
        by_day -> Bool,
        until -> Nullable<Timestamptz>,
        fault -> Text,
        body -> Nullable<Binary>,
    }
}

diesel::table! {
    weather_forecasts (source_id, date) {
        source_id -> BigInt,
        date -> Date,
        said_at -> Timestamptz,
        tmin_ahead_c -> Nullable<Double>,
        tmin_c -> Nullable<Double>,
        tmax_c -> Nullable<Double>,
        dew_point_c -> Nullable<Double>,
        rh_min_pct -> Nullable<Double>,
        rh_max_pct -> Nullable<Double>,
        vapour_pressure_kpa -> Nullable<Double>,
        solar_mj_m2 -> Nullable<Double>,
        wind_m_s -> Nullable<Double>,
        rain_mm -> Nullable<Double>,
    }
}

diesel::joinable!(weather_services -> weather_sources (source_id));
diesel::joinable!(weather_services -> users (saved_by));
