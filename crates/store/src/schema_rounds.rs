//! The tables of the rounds over all sites, as Diesel sees them.

diesel::table! {
    round_nights (site_id, number) {
        site_id -> BigInt,
        number -> Integer,
        place -> Text,
        state -> Text,
        sentence -> Array<Text>,
    }
}

diesel::table! {
    round_calls (site_id, number, slot) {
        site_id -> BigInt,
        number -> Integer,
        slot -> Integer,
        controller_id -> BigInt,
        place -> Text,
        program -> Text,
        set_pct -> Integer,
        advised_pct -> Nullable<Integer>,
        because -> Text,
        week -> Date,
        record_ended -> Nullable<Date>,
    }
}
