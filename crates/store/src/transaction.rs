//! The two ways to the facts: a [`Snapshot`] reads them at one instant, a [`Change`] writes them.
//!
//! A change locks its site, and when something was recorded it raises the site's revision and writes
//! the events, all in one transaction: what was computed from a site's facts is good for one revision.

use crate::schema::{events, sites};
use crate::scope::SiteKey;
use crate::tasks::{self, Task};
use crate::{Result, Saved, Store, StoreError};
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Nullable, Timestamptz};
use jiff::Timestamp;
use jiff_diesel::ToDiesel;
use serde_json::Value;
use std::ops::{Deref, DerefMut};

/// One consistent reading of the database: a read-only transaction that sees one instant.
pub struct Snapshot<'a> {
    pub(crate) connection: &'a mut PgConnection,
}

/// A write to one site by one person; it can read as a [`Snapshot`] does.
pub struct Change<'a> {
    snapshot: Snapshot<'a>,
    pub(crate) site_id: SiteKey,
    pub(crate) actor: i64,
    pub(crate) raises_weather: bool,
    events: Vec<NewEvent>,
}

impl<'a> Deref for Change<'a> {
    type Target = Snapshot<'a>;
    fn deref(&self) -> &Snapshot<'a> {
        &self.snapshot
    }
}

impl DerefMut for Change<'_> {
    fn deref_mut(&mut self) -> &mut Self::Target {
        &mut self.snapshot
    }
}

/// What a change is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Subject {
    /// The survey of a site.
    Site,
    /// A zone.
    Zone,
    /// A controller.
    Controller,
    /// The settings of a controller.
    Settings,
    /// The version that a controller falls back on.
    Fallback,
    /// The calendar address of a controller.
    Calendar,
    /// An ordinance as a site keeps to it.
    Ordinance,
    /// A sensor.
    Sensor,
    /// When a sensor was installed.
    InstallDate,
    /// What was done to a sensor.
    SensorEvent,
    /// A device that posts for a sensor.
    Device,
    /// The plan of a site.
    Plan,
    /// A catch-can test.
    CatchTest,
    /// What was found at a zone.
    ZoneEvent,
    /// A source of weather.
    Source,
    /// How a source is fetched.
    Service,
    /// An import of weather.
    Import,
    /// What somebody said about a value of the weather.
    Overrule,
    /// Which source counts.
    SourceChoice,
    /// Typed normals.
    Normals,
    /// A watering option that somebody described.
    TrialWay,
    /// A trial that was kept.
    Trial,
    /// What was entered at a visit.
    VisitEntry,
    /// A photograph.
    Photo,
    /// A visit.
    Visit,
    /// An adjustment that was turned after a visit.
    Lever,
    /// A tick.
    Tick,
    /// A note in the logbook.
    Note,
    /// A sheet that was printed.
    Print,
    /// A page for the owner of a property.
    OwnerLink,
    /// A card or ordinance of the library.
    Library,
    /// An account.
    Account,
}

impl Subject {
    /// Short name in the database.
    #[must_use]
    pub fn code(self) -> &'static str {
        match self {
            Self::Site => "site",
            Self::Zone => "zone",
            Self::Controller => "box",
            Self::Settings => "settings",
            Self::Fallback => "fallback",
            Self::Calendar => "calendar",
            Self::Ordinance => "ordinance",
            Self::Sensor => "sensor",
            Self::InstallDate => "install_date",
            Self::SensorEvent => "sensor_event",
            Self::Device => "device",
            Self::Plan => "plan",
            Self::CatchTest => "catch_test",
            Self::ZoneEvent => "zone_event",
            Self::Source => "weather_source",
            Self::Service => "weather_service",
            Self::Import => "weather_import",
            Self::Overrule => "weather_overrule",
            Self::SourceChoice => "weather_choice",
            Self::Normals => "weather_normals",
            Self::TrialWay => "trial_way",
            Self::Trial => "trial",
            Self::VisitEntry => "visit_entry",
            Self::Photo => "photo",
            Self::Visit => "visit",
            Self::Lever => "lever",
            Self::Tick => "tick",
            Self::Note => "note",
            Self::Print => "print",
            Self::OwnerLink => "owner_link",
            Self::Library => "library",
            Self::Account => "account",
        }
    }

    /// Where one is kept that can be taken back.
    fn kept(self) -> Option<Kept> {
        let of = |table, mark, belongs| Some(Kept { table, mark, belongs });
        match self {
            Self::Zone => of("zones", "removed_at", Belongs::ToSite),
            Self::Controller => of("controllers", "removed_at", Belongs::ToSite),
            Self::Sensor => of("sensors", "removed_at", Belongs::ToSite),
            Self::TrialWay => of("trial_ways", "removed_at", Belongs::ToSite),
            Self::Trial => of("trials", "removed_at", Belongs::ToSite),
            Self::Visit => of("visits", "removed_at", Belongs::ToSite),
            Self::Source => of("weather_sources", "removed_at", Belongs::ToSite),
            Self::Note => of("site_notes", "undone_at", Belongs::ToSite),
            Self::Photo => of("photos", "undone_at", Belongs::ToSite),
            Self::Import => of("weather_imports", "undone_at", Belongs::ToSite),
            Self::CatchTest => of("catch_tests", "undone_at", Belongs::To("zone_id", "zones")),
            Self::ZoneEvent => of("zone_events", "undone_at", Belongs::To("zone_id", "zones")),
            Self::SensorEvent => of("sensor_events", "undone_at", Belongs::To("sensor_id", "sensors")),
            Self::VisitEntry => of("visit_entries", "undone_at", Belongs::To("visit_id", "visits")),
            Self::Overrule => {
                of("weather_overrules", "undone_at", Belongs::Within("source_id", "weather_sources"))
            }
            _ => None,
        }
    }

    /// Whether the weather record follows from it.
    fn is_weather(self) -> bool {
        matches!(self, Self::Import | Self::Overrule | Self::Source | Self::SourceChoice | Self::Normals)
    }
}

/// Where something is kept that can be taken back, and in which column it is marked.
struct Kept {
    table: &'static str,
    mark: &'static str,
    belongs: Belongs,
}

/// What a thing of a site belongs to.
enum Belongs {
    /// The site itself, which is also what it is named under.
    ToSite,
    /// Something of the site that it is named under: a column, and the table that it leads to.
    To(&'static str, &'static str),
    /// The same, named under the site.
    Within(&'static str, &'static str),
}

impl Kept {
    /// The statement that takes one back (`$2` an instant) or lets it stand again (`$2` null): only where `$1` belongs
    /// under `$3`, the site `$4` or something of it, and is not so already.
    fn statement(&self) -> String {
        let Self { table, mark, belongs } = self;
        let belongs = match belongs {
            Belongs::ToSite => "site_id = $3 AND site_id = $4".to_owned(),
            Belongs::To(column, of) => {
                format!("{column} = $3 AND {column} IN (SELECT id FROM {of} WHERE site_id = $4)")
            }
            Belongs::Within(column, of) => {
                format!("$3 = $4 AND {column} IN (SELECT id FROM {of} WHERE site_id = $4)")
            }
        };
        format!(
            "UPDATE {table} SET {mark} = $2 WHERE id = $1 AND ({mark} IS NULL) = ($2 IS NOT NULL) AND {belongs}"
        )
    }
}

/// What happened to a subject.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Action {
    /// It was made.
    Created,
    /// It was changed.
    Changed,
    /// It was taken away or back; nothing is deleted.
    Removed,
    /// It is restored.
    Restored,
}

impl Action {
    /// Short name in the database.
    #[must_use]
    pub fn code(self) -> &'static str {
        match self {
            Self::Created => "created",
            Self::Changed => "changed",
            Self::Removed => "removed",
            Self::Restored => "restored",
        }
    }
}

/// An event to be written.
pub(crate) struct NewEvent {
    subject: Subject,
    subject_id: Option<i64>,
    action: Action,
    before: Option<Value>,
    after: Option<Value>,
    words: String,
    zone_id: Option<i64>,
}

impl NewEvent {
    pub(crate) fn new(subject: Subject, subject_id: Option<i64>, action: Action) -> Self {
        let zone_id = subject_id.filter(|_| subject == Subject::Zone);
        Self { subject, subject_id, action, before: None, after: None, words: String::new(), zone_id }
    }

    /// What it says in words: what the logbook shows and searches.
    pub(crate) fn said(mut self, words: impl Into<String>) -> Self {
        self.words = words.into();
        self
    }

    /// The zone that it is about.
    pub(crate) fn of_zone(mut self, zone_id: impl Into<Option<i64>>) -> Self {
        self.zone_id = zone_id.into();
        self
    }

    pub(crate) fn between(mut self, before: impl Into<Value>, after: impl Into<Value>) -> Self {
        (self.before, self.after) = (Some(before.into()), Some(after.into()));
        self
    }

    pub(crate) fn with(mut self, after: impl Into<Value>) -> Self {
        self.after = Some(after.into());
        self
    }

    pub(crate) fn write(
        self,
        connection: &mut PgConnection,
        site_id: Option<i64>,
        actor: Option<i64>,
    ) -> Result<()> {
        diesel::insert_into(events::table)
            .values((
                events::site_id.eq(site_id),
                events::actor.eq(actor),
                events::subject.eq(self.subject.code()),
                events::subject_id.eq(self.subject_id),
                events::action.eq(self.action.code()),
                events::before.eq(self.before),
                events::after.eq(self.after),
                events::words.eq(self.words),
                events::zone_id.eq(self.zone_id),
            ))
            .execute(connection)?;
        Ok(())
    }
}

/// An event as it was written.
#[derive(Debug, Clone, PartialEq)]
pub struct Event {
    /// When.
    pub at: Timestamp,
    /// Who; `None`: the program itself.
    pub actor: Option<i64>,
    /// What it is about, as a short name.
    pub subject: String,
    /// Its identity.
    pub subject_id: Option<i64>,
    /// What happened, as a short name.
    pub action: String,
    /// What stood before.
    pub before: Option<Value>,
    /// What stands now.
    pub after: Option<Value>,
}

/// Something kept as numbered versions.
pub(crate) trait Versioned {
    type Item: PartialEq + ?Sized;
    fn id(&self) -> i64;
    fn version(&self) -> i32;
    fn item(&self) -> &Self::Item;
}

impl Store {
    /// Reads at one instant, over one connection.
    ///
    /// # Errors
    /// As `read`, and when no connection can be had.
    pub fn read<T>(&self, read: impl FnOnce(&mut Snapshot<'_>) -> Result<T>) -> Result<T> {
        let mut connection = self.connection()?;
        let connection: &mut PgConnection = &mut connection;
        connection
            .build_transaction()
            .read_only()
            .repeatable_read()
            .run(|connection| read(&mut Snapshot { connection }))
    }

    /// Changes a site as somebody asked. `None` when there is no such site, or it was removed.
    ///
    /// # Errors
    /// As `change`; nothing is stored then.
    pub fn change<T>(
        &self,
        actor: i64,
        site_id: SiteKey,
        change: impl FnOnce(&mut Change<'_>) -> Result<T>,
    ) -> Result<Option<T>> {
        self.change_any(actor, site_id, false, change)
    }

    pub(crate) fn change_any<T>(
        &self,
        actor: i64,
        site_id: SiteKey,
        removed_too: bool,
        work: impl FnOnce(&mut Change<'_>) -> Result<T>,
    ) -> Result<Option<T>> {
        let mut connection = self.connection()?;
        connection.transaction(|connection| {
            // The lock orders two writers, so that the second sees the first.
            let removed: Option<Option<jiff_diesel::Timestamp>> = sites::table
                .find(site_id)
                .select(sites::removed_at)
                .for_update()
                .first(connection)
                .optional()?;
            match removed {
                None => return Ok(None),
                Some(Some(_)) if !removed_too => return Ok(None),
                Some(_) => {}
            }
            let mut change = Change {
                snapshot: Snapshot { connection },
                site_id,
                actor,
                raises_weather: false,
                events: Vec::new(),
            };
            let value = work(&mut change)?;
            change.finish()?;
            Ok(Some(value))
        })
    }
}

impl Change<'_> {
    /// The site that is changed.
    #[must_use]
    pub fn site_id(&self) -> SiteKey {
        self.site_id
    }

    /// Notes what was done. Without a note a change is none: the revision stays.
    pub(crate) fn record(&mut self, event: NewEvent) {
        self.raises_weather |= event.subject.is_weather();
        self.events.push(event);
    }

    fn finish(self) -> Result<()> {
        if self.events.is_empty() {
            return Ok(());
        }
        let connection = self.snapshot.connection;
        for event in self.events {
            event.write(connection, Some(self.site_id.number()), Some(self.actor))?;
        }
        diesel::update(sites::table.find(self.site_id))
            .set((
                sites::revision.eq(sites::revision + 1),
                sites::weather_version.eq(sites::weather_version + i64::from(self.raises_weather)),
            ))
            .execute(connection)?;
        tasks::ask(connection, Task::Round, self.site_id.number(), jiff::SignedDuration::ZERO)
    }

    /// Saves the next version of something that was edited from `base`: refused with theirs when somebody
    /// saved in between, and nothing is stored when nothing changed. `None` when it is not there.
    pub(crate) fn save_version<R: Versioned>(
        &mut self,
        subject: Subject,
        now: Option<R>,
        base: i32,
        item: &R::Item,
        insert: impl FnOnce(&mut PgConnection, i32, i64) -> Result<()>,
    ) -> Result<Option<Saved<R>>> {
        let Some(now) = now else { return Ok(None) };
        if now.version() != base {
            return Ok(Some(Saved::Conflict(Box::new(now))));
        }
        if now.item() == item {
            return Ok(Some(Saved::Unchanged(base)));
        }
        let (version, actor) = (base + 1, self.actor);
        insert(self.connection, version, actor)?;
        let (words, zone) = self.said_of(subject, now.id())?;
        let event = NewEvent::new(subject, Some(now.id()), Action::Changed).between(base, version);
        let zone = zone.or(event.zone_id);
        self.record(event.said(words).of_zone(zone));
        Ok(Some(Saved::As(version)))
    }

    /// What the logbook said of a thing when it was made.
    fn said_of(&mut self, subject: Subject, id: i64) -> Result<(String, Option<i64>)> {
        let made = events::table
            .filter(events::site_id.eq(self.site_id))
            .filter(events::subject.eq(subject.code()).and(events::subject_id.eq(id)))
            .order(events::id)
            .select((events::words, events::zone_id))
            .first(self.connection)
            .optional()?;
        Ok(made.unwrap_or_default())
    }

    /// Takes something of the site back at an instant, or lets it stand again (`None`). `under` is the zone or
    /// sensor that it belongs to, or the site. `false` when there is no such thing, or it is so already.
    ///
    /// # Errors
    /// As any query; [`StoreError::Taken`] when something else stands in its place by now.
    pub fn take_back(
        &mut self,
        subject: Subject,
        under: i64,
        id: i64,
        at: Option<Timestamp>,
    ) -> Result<bool> {
        let Some(statement) = subject.kept().map(|kept| kept.statement()) else {
            return Err(StoreError::Unknown {
                what: "thing that can be taken back",
                value: subject.code().into(),
            });
        };
        let site_id = self.site_id;
        let rows = diesel::sql_query(statement)
            .bind::<BigInt, _>(id)
            .bind::<Nullable<Timestamptz>, _>(at.map(ToDiesel::to_diesel))
            .bind::<BigInt, _>(under)
            .bind::<BigInt, _>(site_id)
            .execute(self.connection)?;
        if rows == 1 {
            let action = if at.is_some() { Action::Removed } else { Action::Restored };
            let (words, zone_id) = self.said_of(subject, id)?;
            self.record(NewEvent::new(subject, Some(id), action).said(words).of_zone(zone_id));
        }
        Ok(rows == 1)
    }
}

impl Snapshot<'_> {
    /// What was done to a site, or to what all sites share (`None`), the newest first.
    ///
    /// # Errors
    /// As any query.
    pub fn events(&mut self, site_id: Option<i64>, most: i64) -> Result<Vec<Event>> {
        type Row = (
            (jiff_diesel::Timestamp, Option<i64>, String, Option<i64>),
            (String, Option<Value>, Option<Value>),
        );
        let rows: Vec<Row> = events::table
            .filter(events::site_id.is_not_distinct_from(site_id))
            .order(events::id.desc())
            .limit(most)
            .select((
                (events::at, events::actor, events::subject, events::subject_id),
                (events::action, events::before, events::after),
            ))
            .load(self.connection)?;
        Ok(rows
            .into_iter()
            .map(|((at, actor, subject, subject_id), (action, before, after))| Event {
                at: at.to_jiff(),
                actor,
                subject,
                subject_id,
                action,
                before,
                after,
            })
            .collect())
    }
}
