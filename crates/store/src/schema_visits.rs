//! The tables of visits, ticks and notes, as Diesel sees them.

use crate::schema::users;

diesel::table! {
    visits (id) {
        id -> BigInt,
        site_id -> BigInt,
        on_date -> Date,
        begun_by -> BigInt,
        begun_at -> Timestamptz,
        look_again -> Nullable<Date>,
        removed_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    visit_entries (id) {
        id -> BigInt,
        visit_id -> BigInt,
        client_key -> Text,
        kind -> Text,
        about -> BigInt,
        body -> Jsonb,
        at -> Timestamptz,
        clock_off_s -> BigInt,
        said_by -> BigInt,
        said_at -> Timestamptz,
        undone_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    photos (id) {
        id -> BigInt,
        site_id -> BigInt,
        visit_id -> Nullable<BigInt>,
        kind -> Text,
        about -> BigInt,
        caption -> Text,
        client_key -> Text,
        jpeg -> Nullable<Binary>,
        file_name -> Nullable<Text>,
        width -> Integer,
        height -> Integer,
        said_by -> BigInt,
        said_at -> Timestamptz,
        undone_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    visit_levers (id) {
        id -> BigInt,
        visit_id -> BigInt,
        code -> Text,
        cause -> Text,
        words -> Text,
        foretold -> Jsonb,
        look_again -> Date,
        said_by -> BigInt,
        said_at -> Timestamptz,
    }
}

diesel::table! {
    ticks (id) {
        id -> BigInt,
        site_id -> BigInt,
        what -> Text,
        about -> BigInt,
        number -> Integer,
        at -> Timestamptz,
        said_by -> BigInt,
        said_at -> Timestamptz,
        undone_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    site_notes (id) {
        id -> BigInt,
        site_id -> BigInt,
        zone_id -> Nullable<BigInt>,
        words -> Text,
        corrects -> Nullable<BigInt>,
        said_by -> BigInt,
        said_at -> Timestamptz,
        undone_at -> Nullable<Timestamptz>,
    }
}

diesel::joinable!(visits -> users (begun_by));
diesel::joinable!(visit_entries -> visits (visit_id));
diesel::joinable!(visit_entries -> users (said_by));
diesel::joinable!(photos -> users (said_by));
diesel::joinable!(visit_levers -> visits (visit_id));
diesel::joinable!(visit_levers -> users (said_by));
diesel::joinable!(ticks -> users (said_by));
