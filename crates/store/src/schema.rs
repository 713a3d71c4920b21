//! The tables as Diesel sees them; kept in step with `migrations/` by the database tests.

pub(crate) use crate::schema_rounds::*;
pub(crate) use crate::schema_services::*;
pub(crate) use crate::schema_visits::*;

diesel::table! {
    users (id) {
        id -> BigInt,
        login -> Text,
        display_name -> Text,
        password_hash -> Text,
        role -> Text,
        created_at -> Timestamptz,
        twelve_hours -> Bool,
        month_first -> Bool,
        disabled_at -> Nullable<Timestamptz>,
        mail_to -> Text,
        mail_at -> Integer,
        mail_zone -> Text,
    }
}

diesel::table! {
    password_links (token_sha256) {
        token_sha256 -> Binary,
        user_id -> BigInt,
        made_by -> BigInt,
        expires_at -> Timestamptz,
    }
}

diesel::table! {
    sessions (token_sha256) {
        token_sha256 -> Binary,
        user_id -> BigInt,
        created_at -> Timestamptz,
        expires_at -> Timestamptz,
    }
}

diesel::table! {
    secrets (name) {
        name -> Text,
        value -> Binary,
    }
}

diesel::table! {
    sites (id) {
        id -> BigInt,
        created_at -> Timestamptz,
        removed_at -> Nullable<Timestamptz>,
        weather_version -> BigInt,
        revision -> BigInt,
        assigned_to -> Nullable<BigInt>,
    }
}

diesel::table! {
    site_readings (site_id) {
        site_id -> BigInt,
        revision -> BigInt,
        last_at -> Timestamptz,
    }
}

diesel::table! {
    events (id) {
        id -> BigInt,
        site_id -> Nullable<BigInt>,
        at -> Timestamptz,
        actor -> Nullable<BigInt>,
        subject -> Text,
        subject_id -> Nullable<BigInt>,
        action -> Text,
        before -> Nullable<Jsonb>,
        after -> Nullable<Jsonb>,
        words -> Text,
        zone_id -> Nullable<BigInt>,
    }
}

diesel::table! {
    site_versions (site_id, version) {
        site_id -> BigInt,
        version -> Integer,
        name -> Text,
        latitude_deg -> Double,
        longitude_deg -> Double,
        elevation_m -> Double,
        wind_height_m -> Double,
        time_zone -> Text,
        units -> Text,
        window_from -> Time,
        window_until -> Time,
        second_from -> Nullable<Time>,
        second_until -> Nullable<Time>,
        grow_in_from -> Nullable<Time>,
        grow_in_until -> Nullable<Time>,
        supply_l_per_min -> Nullable<Double>,
        drizzle -> Text,
        card -> Jsonb,
        saved_by -> BigInt,
        saved_at -> Timestamptz,
    }
}

diesel::table! {
    zones (id) {
        id -> BigInt,
        site_id -> BigInt,
        created_at -> Timestamptz,
        removed_at -> Nullable<Timestamptz>,
        controller_number -> Integer,
        number -> Integer,
    }
}

diesel::table! {
    zone_versions (zone_id, version) {
        zone_id -> BigInt,
        version -> Integer,
        number -> Integer,
        name -> Text,
        plant -> Text,
        plant_coefficient -> Nullable<Double>,
        soil -> Text,
        slope_pct -> Nullable<Double>,
        sun -> Text,
        sky -> Text,
        head -> Text,
        precipitation_rate_mm_per_h -> Nullable<Double>,
        uniformity -> Nullable<Double>,
        root_depth_m -> Nullable<Double>,
        allowable_depletion -> Nullable<Double>,
        area_m2 -> Nullable<Double>,
        window_from -> Nullable<Time>,
        window_until -> Nullable<Time>,
        controller_number -> Integer,
        saved_by -> BigInt,
        saved_at -> Timestamptz,
        planting -> Nullable<Jsonb>,
        since -> Nullable<Date>,
    }
}

diesel::table! {
    weather_drafts (id) {
        id -> BigInt,
        site_id -> BigInt,
        user_id -> BigInt,
        file_name -> Text,
        content -> Binary,
        days_total -> Integer,
        days_done -> Integer,
        state -> Text,
        message -> Text,
        created_at -> Timestamptz,
        source_id -> BigInt,
        mapping -> Nullable<Jsonb>,
        cancel -> Bool,
        of_service -> Bool,
    }
}

diesel::table! {
    weather_imports (id) {
        id -> BigInt,
        site_id -> BigInt,
        file_name -> Text,
        first_date -> Date,
        last_date -> Date,
        days_new -> Integer,
        days_changed -> Integer,
        days_same -> Integer,
        imported_by -> BigInt,
        imported_at -> Timestamptz,
        undone_at -> Nullable<Timestamptz>,
        source_id -> BigInt,
        hours -> Integer,
        follows -> Bool,
        staged_for -> Nullable<BigInt>,
    }
}

diesel::table! {
    weather_sources (id) {
        id -> BigInt,
        site_id -> BigInt,
        kind -> Text,
        name -> Text,
        latitude_deg -> Nullable<Double>,
        longitude_deg -> Nullable<Double>,
        elevation_m -> Nullable<Double>,
        wind_height_m -> Nullable<Double>,
        saved_by -> BigInt,
        saved_at -> Timestamptz,
        removed_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    weather_hours (source_id, date, import_id) {
        source_id -> BigInt,
        date -> Date,
        import_id -> BigInt,
        starts -> Array<BigInt>,
        temp_c -> Array<Nullable<Double>>,
        rh_pct -> Array<Nullable<Double>>,
        dew_point_c -> Array<Nullable<Double>>,
        solar_mj_m2 -> Array<Nullable<Double>>,
        wind_m_s -> Array<Nullable<Double>>,
        rain_mm -> Array<Nullable<Double>>,
        parts -> Nullable<Array<SmallInt>>,
    }
}

diesel::table! {
    weather_overrules (id) {
        id -> BigInt,
        source_id -> BigInt,
        date -> Date,
        variable -> Text,
        keep -> Bool,
        reason -> Text,
        said_by -> BigInt,
        said_at -> Timestamptz,
        undone_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    weather_choices (id) {
        id -> BigInt,
        site_id -> BigInt,
        body -> Jsonb,
        reason -> Text,
        chosen_by -> BigInt,
        chosen_at -> Timestamptz,
    }
}

diesel::table! {
    weather_normals (id) {
        id -> BigInt,
        source_id -> BigInt,
        body -> Jsonb,
        saved_by -> BigInt,
        saved_at -> Timestamptz,
    }
}

diesel::table! {
    weather_mappings (id) {
        id -> BigInt,
        header_key -> Text,
        body -> Jsonb,
        saved_by -> BigInt,
        saved_at -> Timestamptz,
    }
}

diesel::table! {
    catch_tests (id) {
        id -> BigInt,
        zone_id -> BigInt,
        taken_on -> Date,
        body -> Jsonb,
        saved_by -> BigInt,
        saved_at -> Timestamptz,
        undone_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    zone_events (id) {
        id -> BigInt,
        zone_id -> BigInt,
        date -> Date,
        kind -> Text,
        value -> Double,
        reason -> Text,
        said_by -> BigInt,
        said_at -> Timestamptz,
        undone_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    weather_days (site_id, date, import_id) {
        site_id -> BigInt,
        date -> Date,
        import_id -> BigInt,
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

diesel::table! {
    controllers (id) {
        id -> BigInt,
        site_id -> BigInt,
        number -> Integer,
        calendar_sha256 -> Nullable<Binary>,
        calendar_made_at -> Nullable<Timestamptz>,
        fallback_version -> Nullable<Integer>,
        created_at -> Timestamptz,
        removed_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    controller_versions (controller_id, version) {
        controller_id -> BigInt,
        version -> Integer,
        place -> Text,
        card -> Jsonb,
        saved_by -> BigInt,
        saved_at -> Timestamptz,
    }
}

diesel::table! {
    settings_versions (controller_id, version) {
        controller_id -> BigInt,
        version -> Integer,
        kind -> Text,
        reason -> Text,
        settings -> Jsonb,
        saved_by -> BigInt,
        saved_at -> Timestamptz,
    }
}

diesel::table! {
    library_entries (id) {
        id -> BigInt,
        kind -> Text,
        created_at -> Timestamptz,
        removed_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    library_versions (entry_id, version) {
        entry_id -> BigInt,
        version -> Integer,
        body -> Jsonb,
        saved_by -> BigInt,
        saved_at -> Timestamptz,
    }
}

diesel::table! {
    site_ordinances (id) {
        id -> BigInt,
        site_id -> BigInt,
        ordinance_id -> BigInt,
        house_number -> Text,
        permits -> Jsonb,
        lifted -> Bool,
        saved_by -> BigInt,
        saved_at -> Timestamptz,
    }
}

diesel::table! {
    sensors (id) {
        id -> BigInt,
        site_id -> BigInt,
        installed_on -> Date,
        removed_at -> Nullable<Timestamptz>,
        feeds_weather -> Bool,
    }
}

diesel::table! {
    sensor_versions (sensor_id, version) {
        sensor_id -> BigInt,
        version -> Integer,
        body -> Jsonb,
        saved_by -> BigInt,
        saved_at -> Timestamptz,
        since -> Date,
    }
}

diesel::table! {
    sensor_events (id) {
        id -> BigInt,
        sensor_id -> BigInt,
        kind -> Text,
        from_at -> Timestamptz,
        until_at -> Nullable<Timestamptz>,
        body -> Jsonb,
        reason -> Text,
        said_by -> BigInt,
        said_at -> Timestamptz,
        undone_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    site_plans (id) {
        id -> BigInt,
        site_id -> BigInt,
        body -> Jsonb,
        saved_by -> BigInt,
        saved_at -> Timestamptz,
    }
}

diesel::table! {
    sensor_devices (id) {
        id -> BigInt,
        sensor_id -> BigInt,
        name -> Text,
        token_hash -> Bytea,
        old_hash -> Nullable<Bytea>,
        made_by -> BigInt,
        made_at -> Timestamptz,
        seen_at -> Nullable<Timestamptz>,
        seen_from -> Nullable<Text>,
        revoked_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    sensor_readings (sensor_id, channel, at) {
        sensor_id -> BigInt,
        channel -> Text,
        at -> Timestamptz,
        value -> Double,
        device_id -> Nullable<BigInt>,
        came_at -> Timestamptz,
    }
}

diesel::table! {
    sensor_buckets (sensor_id, channel, bucket) {
        sensor_id -> BigInt,
        channel -> Text,
        bucket -> Timestamptz,
        at -> Timestamptz,
        value -> Double,
        readings -> Integer,
        sum -> Double,
    }
}

diesel::table! {
    reading_refusals (reason) {
        device_id -> Nullable<BigInt>,
        reason -> Text,
        count -> BigInt,
        last_at -> Timestamptz,
        example -> Text,
    }
}

diesel::table! {
    trial_ways (id) {
        id -> BigInt,
        site_id -> BigInt,
        name -> Text,
        way -> Jsonb,
        saved_by -> BigInt,
        saved_at -> Timestamptz,
        removed_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    trials (id) {
        id -> BigInt,
        site_id -> BigInt,
        name -> Text,
        file -> Text,
        result -> Text,
        answer -> Text,
        saved_by -> BigInt,
        saved_at -> Timestamptz,
        removed_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    settings_drafts (user_id, controller_id) {
        user_id -> BigInt,
        controller_id -> BigInt,
        base_version -> Integer,
        fields -> Jsonb,
        typed_at -> Timestamptz,
    }
}

diesel::joinable!(sensor_versions -> sensors (sensor_id));
diesel::joinable!(sensor_versions -> users (saved_by));
diesel::joinable!(sensor_events -> sensors (sensor_id));
diesel::joinable!(sensor_events -> users (said_by));
diesel::joinable!(sensor_devices -> sensors (sensor_id));
diesel::joinable!(sensor_devices -> users (made_by));
diesel::joinable!(sessions -> users (user_id));
diesel::joinable!(site_versions -> sites (site_id));
diesel::joinable!(site_versions -> users (saved_by));
diesel::joinable!(zones -> sites (site_id));
diesel::joinable!(zone_versions -> zones (zone_id));
diesel::joinable!(zone_versions -> users (saved_by));
diesel::joinable!(controllers -> sites (site_id));
diesel::joinable!(controller_versions -> controllers (controller_id));
diesel::joinable!(controller_versions -> users (saved_by));
diesel::joinable!(settings_versions -> users (saved_by));
diesel::joinable!(settings_versions -> controllers (controller_id));
diesel::joinable!(library_versions -> library_entries (entry_id));
diesel::joinable!(library_versions -> users (saved_by));
diesel::joinable!(site_ordinances -> users (saved_by));
diesel::joinable!(weather_imports -> users (imported_by));
diesel::joinable!(weather_overrules -> users (said_by));
diesel::joinable!(weather_choices -> users (chosen_by));
diesel::joinable!(weather_hours -> weather_imports (import_id));
diesel::joinable!(catch_tests -> users (saved_by));
diesel::joinable!(zone_events -> users (said_by));
diesel::joinable!(zone_events -> zones (zone_id));
diesel::joinable!(weather_days -> weather_imports (import_id));
diesel::joinable!(weather_sources -> sites (site_id));
diesel::joinable!(site_readings -> sites (site_id));
diesel::joinable!(trial_ways -> users (saved_by));
diesel::joinable!(trials -> users (saved_by));
diesel::joinable!(events -> users (actor));
diesel::allow_tables_to_appear_in_same_query!(
    weather_services,
    weather_answers,
    weather_forecasts,
    visits,
    visit_entries,
    photos,
    visit_levers,
    ticks,
    site_notes,
    events,
    trial_ways,
    trials,
    site_readings,
    users,
    sessions,
    password_links,
    sites,
    site_versions,
    zones,
    zone_versions,
    weather_drafts,
    weather_imports,
    weather_days,
    controllers,
    controller_versions,
    settings_versions,
    library_entries,
    library_versions,
    site_ordinances,
    weather_sources,
    weather_hours,
    weather_overrules,
    weather_choices,
    weather_normals,
    weather_mappings,
    catch_tests,
    zone_events,
    sensors,
    sensor_versions,
    sensor_events,
    site_plans,
    sensor_devices,
    sensor_readings,
    sensor_buckets,
    reading_refusals,
);
