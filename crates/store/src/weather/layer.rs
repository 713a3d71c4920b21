//! A layer of the record that follows what sensors or a service say: one a source, its days put in place of what stood
//! there before.

use super::count;
use super::imports::{DayRow, HoursRow};
use crate::Result;
use crate::schema::{sites, weather_days, weather_hours, weather_imports};
use crate::scope::SiteKey;
use crate::tasks::{self, Task};
use diesel::prelude::*;
use diesel::sql_types::BigInt;
use jiff::civil::Date;
use jiff_diesel::ToDiesel;
use std::collections::BTreeMap;
use upland_core::weather::record::{RawDay, RawHour};

/// The following layer of a source.
pub(super) struct Layer {
    pub site_id: SiteKey,
    pub source_id: i64,
    pub import_id: i64,
}

/// Days and hours of a layer, by date.
type Known = (BTreeMap<Date, RawDay>, BTreeMap<Date, Vec<RawHour>>);

impl Layer {
    /// The layer of a source of a site; made, with its name and who answers for it, when it is not there.
    pub fn of(
        connection: &mut PgConnection,
        site_id: SiteKey,
        source_id: i64,
        name: &str,
        by: i64,
        first: Date,
    ) -> Result<Self> {
        let layer: Option<i64> = weather_imports::table
            .filter(weather_imports::source_id.eq(source_id).and(weather_imports::follows))
            .select(weather_imports::id)
            .first(connection)
            .optional()?;
        let import_id = match layer {
            Some(id) => id,
            None => diesel::insert_into(weather_imports::table)
                .values((
                    weather_imports::site_id.eq(site_id),
                    weather_imports::source_id.eq(source_id),
                    weather_imports::file_name.eq(name),
                    weather_imports::first_date.eq(first.to_diesel()),
                    weather_imports::last_date.eq(first.to_diesel()),
                    (weather_imports::days_new.eq(0), weather_imports::days_changed.eq(0)),
                    (weather_imports::days_same.eq(0), weather_imports::hours.eq(0)),
                    weather_imports::imported_by.eq(by),
                    weather_imports::follows.eq(true),
                ))
                .returning(weather_imports::id)
                .get_result(connection)?,
        };
        Ok(Self { site_id, source_id, import_id })
    }

    /// What it can be set to of some days, both ends included.
    pub fn known(&self, connection: &mut PgConnection, first: Date, last: Date) -> Result<Known> {
        let rows: Vec<DayRow> = weather_days::table
            .filter(weather_days::import_id.eq(self.import_id))
            .filter(weather_days::date.between(first.to_diesel(), last.to_diesel()))
            .select(DayRow::as_select())
            .load(connection)?;
        let days = rows.iter().map(DayRow::day).map(|day| (day.date, day)).collect();
        let rows: Vec<HoursRow> = weather_hours::table
            .filter(weather_hours::import_id.eq(self.import_id))
            .filter(weather_hours::date.between(first.to_diesel(), last.to_diesel()))
            .select(HoursRow::as_select())
            .load(connection)?;
        let mut hours: BTreeMap<Date, Vec<RawHour>> = BTreeMap::new();
        for hour in rows.iter().flat_map(HoursRow::hours) {
            hours.entry(hour.local_date).or_default().push(hour);
        }
        Ok((days, hours))
    }

    /// Puts a day of the layer in place of what stood there.
    pub fn replace(&self, connection: &mut PgConnection, day: &RawDay, hours: &[RawHour]) -> Result<()> {
        let date = day.date;
        diesel::delete(
            weather_days::table.filter(
                weather_days::import_id.eq(self.import_id).and(weather_days::date.eq(date.to_diesel())),
            ),
        )
        .execute(connection)?;
        diesel::delete(weather_hours::table.filter(
            weather_hours::import_id.eq(self.import_id).and(weather_hours::date.eq(date.to_diesel())),
        ))
        .execute(connection)?;
        if !day.is_empty() {
            diesel::insert_into(weather_days::table)
                .values(DayRow::new(self.site_id, self.import_id, day))
                .execute(connection)?;
        }
        if !hours.is_empty() {
            diesel::insert_into(weather_hours::table)
                .values(HoursRow::new(self.source_id, self.import_id, date, hours))
                .execute(connection)?;
        }
        Ok(())
    }

    /// Says of the layer what it holds, and of the site that its weather changed.
    pub fn tell(&self, connection: &mut PgConnection) -> Result<()> {
        use diesel::dsl::{count_star, max, min};
        let (days, hours) = (
            weather_days::table.filter(weather_days::import_id.eq(self.import_id)),
            weather_hours::table.filter(weather_hours::import_id.eq(self.import_id)),
        );
        let with_values: i64 = days.select(count_star()).first(connection)?;
        type Ends = (Option<jiff_diesel::Date>, Option<jiff_diesel::Date>);
        let (first, last): Ends =
            hours.select((min(weather_hours::date), max(weather_hours::date))).first(connection)?;
        let of_hours: Option<i64> = hours
            .select(diesel::dsl::sql::<diesel::sql_types::Nullable<BigInt>>(
                "sum(cardinality(starts))::bigint",
            ))
            .first(connection)?;
        if let (Some(first), Some(last)) = (first, last) {
            diesel::update(weather_imports::table.find(self.import_id))
                .set((
                    weather_imports::first_date.eq(first),
                    weather_imports::last_date.eq(last),
                    weather_imports::days_new.eq(count(usize::try_from(with_values).unwrap_or(0))),
                    weather_imports::hours.eq(i32::try_from(of_hours.unwrap_or(0)).unwrap_or(i32::MAX)),
                ))
                .execute(connection)?;
        }
        weather_moved(connection, self.site_id)
    }
}

/// Says of a site that its weather changed.
pub(super) fn weather_moved(connection: &mut PgConnection, site_id: SiteKey) -> Result<()> {
    diesel::update(sites::table.find(site_id))
        .set((sites::revision.eq(sites::revision + 1), sites::weather_version.eq(sites::weather_version + 1)))
        .execute(connection)?;
    tasks::ask(connection, Task::Round, site_id.number(), jiff::SignedDuration::ZERO)
}
