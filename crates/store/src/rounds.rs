//! The round over all sites: what each of them asks for, worked out ahead of the pages that show it. A worker makes it
//! anew of each site every hour and whenever its facts change; what stands is replaced as a whole, and of a notice it is
//! kept since when it stands.

use crate::accounts::SiteStamp;
use crate::schema::{round_calls, round_nights};
use crate::{Number, Result, Store, StoreError};
use diesel::prelude::*;
use diesel::sql_types::{self, Array, BigInt, Double, Integer, Nullable, Text, Timestamptz};
use jiff::Timestamp;
use jiff_diesel::ToDiesel;
use upland_core::quantity::ratio::Percentage;

mod lists;
mod notices;
mod sites;

pub use lists::{CallRow, CallTotals, NightRow, SiteRound};
pub use notices::{Asked, Count, Grave, NoticeRow};
pub use sites::{NightRun, SiteRow, SiteStanding, ZoneMark};

/// How the night of a controller is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NightState {
    /// Something of it is not right.
    Wrong,
    /// Nobody knows what the controller will do.
    Unknown,
    /// It is no change needed.
    Right,
}

impl NightState {
    const ALL: [Self; 3] = [Self::Wrong, Self::Unknown, Self::Right];

    const fn code(self) -> &'static str {
        match self {
            Self::Wrong => "wrong",
            Self::Unknown => "unknown",
            Self::Right => "right",
        }
    }

    fn from_code(code: &str) -> Result<Self> {
        let unknown = || StoreError::Unknown { what: "state of a night", value: code.to_owned() };
        Self::ALL.into_iter().find(|state| state.code() == code).ok_or_else(unknown)
    }
}

/// The night of a controller in a sentence.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Night {
    /// Number of the controller.
    pub number: u8,
    /// Where it is installed.
    pub place: String,
    /// Whether it is right.
    pub state: NightState,
    /// One sentence, or one for each habit of writing times and dates.
    pub sentence: Vec<String>,
}

/// What a percentage of a controller stands at and should stand at this week.
#[derive(Debug, Clone, PartialEq)]
pub struct Call {
    /// Number of the controller.
    pub number: u8,
    /// Which of its percentages, in their order.
    pub slot: i32,
    /// The controller.
    pub controller_id: i64,
    /// Where it is installed.
    pub place: String,
    /// Program, or empty for the whole controller.
    pub program: String,
    /// What it stands at.
    pub set: Percentage,
    /// What it should stand at; `None`: nothing needs water.
    pub advised: Option<Percentage>,
    /// Why, in words.
    pub because: String,
    /// The day that the week ends before.
    pub week: jiff::civil::Date,
    /// The last day of a record that ended a while ago: the call is about that evening.
    pub record_ended: Option<jiff::civil::Date>,
}

/// What a notice is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum NoticeKind {
    /// A controller will do tonight what is not right.
    Night,
    /// A check of settings found something.
    Finding,
    /// A percentage stands elsewhere than the week asks.
    Percentage,
    /// Upkeep is due.
    Upkeep,
    /// A sensor is not heard.
    Sensor,
    /// Weather does not come.
    Weather,
}

impl NoticeKind {
    /// All, in the order of lists.
    pub const ALL: [Self; 6] =
        [Self::Night, Self::Finding, Self::Percentage, Self::Upkeep, Self::Sensor, Self::Weather];

    /// Short name.
    #[must_use]
    pub const fn code(self) -> &'static str {
        match self {
            Self::Night => "night",
            Self::Finding => "finding",
            Self::Percentage => "percentage",
            Self::Upkeep => "upkeep",
            Self::Sensor => "sensor",
            Self::Weather => "weather",
        }
    }

    /// The kind of a short name.
    #[must_use]
    pub fn from_code(code: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.code() == code)
    }

    /// Words for lists.
    #[must_use]
    pub const fn label(self) -> &'static str {
        match self {
            Self::Night => "Tonight",
            Self::Finding => "Settings",
            Self::Percentage => "Percentages",
            Self::Upkeep => "Upkeep",
            Self::Sensor => "Sensors",
            Self::Weather => "Weather",
        }
    }
}

/// How much a notice weighs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Weight {
    /// Something to do when somebody is there.
    Task,
    /// Plants or water will suffer.
    Warning,
    /// Plants, law or water suffer.
    Fault,
}

impl Weight {
    const fn number(self) -> i32 {
        match self {
            Self::Task => 1,
            Self::Warning => 2,
            Self::Fault => 3,
        }
    }

    fn of_number(number: i32) -> Self {
        match number {
            ..=1 => Self::Task,
            2 => Self::Warning,
            _ => Self::Fault,
        }
    }
}

/// Something at a site that needs attention.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Notice {
    /// What it is about.
    pub kind: NoticeKind,
    /// What tells it from others of its kind at the site, such as "controller 1".
    pub about: String,
    /// How much it weighs.
    pub weight: Weight,
    /// One sentence, or one for each habit of writing times and dates.
    pub words: Vec<String>,
    /// The page where it is corrected.
    pub href: String,
}

/// What a site asks for.
#[derive(Debug, Clone, PartialEq)]
pub struct Round {
    /// The facts that it follows from.
    pub of: SiteStamp,
    /// The application's time that it is about.
    pub at: Timestamp,
    /// Its controllers tonight, by number.
    pub nights: Vec<Night>,
    /// The percentages of its controllers.
    pub calls: Vec<Call>,
    /// What needs attention.
    pub notices: Vec<Notice>,
    /// What the list of sites shows beside these.
    pub standing: SiteStanding,
}

impl Round {
    /// One of which nothing is worked out yet.
    #[must_use]
    pub fn new(of: SiteStamp, at: Timestamp) -> Self {
        let (nights, calls, notices) = (Vec::new(), Vec::new(), Vec::new());
        Self { of, at, nights, calls, notices, standing: SiteStanding::default() }
    }
}

/// Stands unless what is kept is of newer facts. A clock that was set back is believed.
const STANDS: &str = "
    INSERT INTO rounds (site_id, revision, readings, at, build, zones, runs, rain, day, last_visit, look_again, silent, record_ended,
                        controller_types, ordinances)
    SELECT id, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15 FROM sites WHERE id = $1 FOR KEY SHARE
    ON CONFLICT (site_id) DO UPDATE
    SET revision = EXCLUDED.revision, readings = EXCLUDED.readings, at = EXCLUDED.at, build = EXCLUDED.build,
        zones = EXCLUDED.zones, runs = EXCLUDED.runs, rain = EXCLUDED.rain, day = EXCLUDED.day,
        last_visit = EXCLUDED.last_visit, look_again = EXCLUDED.look_again, silent = EXCLUDED.silent,
        record_ended = EXCLUDED.record_ended, controller_types = EXCLUDED.controller_types, ordinances = EXCLUDED.ordinances
    WHERE (rounds.revision, rounds.readings) <= (EXCLUDED.revision, EXCLUDED.readings)
      AND (rounds.at <= EXCLUDED.at OR rounds.at > (SELECT app_now()) + interval '1 hour')
    RETURNING site_id AS number";

/// Sites whose round is not of this hour and of their facts, or was made by a program before this one. What a newer one
/// made is not due to an older one that still works: they would take turns for ever.
const DUE: &str = "
    SELECT s.id AS number FROM sites s
    LEFT JOIN rounds r ON r.site_id = s.id
    LEFT JOIN site_readings d ON d.site_id = s.id
    WHERE s.removed_at IS NULL
      AND (r.site_id IS NULL OR r.revision <> s.revision OR r.readings <> COALESCE(d.revision, 0)
           OR r.build < $1 OR date_trunc('hour', r.at) <> date_trunc('hour', (SELECT app_now())))
    ORDER BY r.at NULLS FIRST";

/// Names the lock that whoever asks for rounds of many sites holds; any number that nothing else uses.
const ASKING: i64 = 0x726f_756e_6473;
/// Rounds that are asked for in one transaction: a page does not wait longer for it than it would notice.
pub const ASKED_AT_ONCE: usize = 100;

#[derive(QueryableByName)]
struct Turn {
    #[diesel(sql_type = diesel::sql_types::Bool)]
    mine: bool,
}

/// After what somebody waits for. One that was given up stays for the owner to look at.
const ASK: &str = "
    SELECT work.add_job('round', json_build_object('of', id), NULL, NULL, 3, 'round ' || id, 10, NULL, 'replace')
    FROM unnest($1) AS id
    WHERE NOT EXISTS (SELECT FROM work.jobs WHERE key = 'round ' || id)";

/// A program that was seen before keeps its number.
const BUILT: &str = "
    INSERT INTO builds (name) VALUES ($1) ON CONFLICT (name) DO UPDATE SET name = EXCLUDED.name RETURNING number";

impl Store {
    /// Says which program works here, by a name that another build of it does not have: rounds that an earlier one made
    /// are due again.
    ///
    /// # Errors
    /// As any query.
    pub fn built_as(self, name: &str) -> Result<Self> {
        let build: Number =
            diesel::sql_query(BUILT).bind::<Text, _>(name).get_result(&mut self.connection()?)?;
        Ok(Self { build: build.number, ..self })
    }

    // Long: one table after another.
    /// Keeps the round of a site in place of the one before. `false` when one of newer facts stands, or the site is not
    /// there.
    ///
    /// # Errors
    /// As any query.
    pub fn keep_round(&self, round: &Round) -> Result<bool> {
        let (site, standing) = (round.of.id, &round.standing);
        self.connection()?.transaction(|connection| {
            let stands: Option<Number> = diesel::sql_query(STANDS)
                .bind::<BigInt, _>(site)
                .bind::<BigInt, _>(round.of.revision)
                .bind::<BigInt, _>(round.of.readings)
                .bind::<Timestamptz, _>(round.at.to_diesel())
                .bind::<BigInt, _>(self.build)
                .bind::<Text, _>(standing.zones_text())
                .bind::<Array<Integer>, _>(standing.runs_row())
                .bind::<Array<Double>, _>(standing.rain_row())
                .bind::<Nullable<sql_types::Date>, _>(standing.day.map(|on| on.to_diesel()))
                .bind::<Nullable<sql_types::Date>, _>(standing.last_visit.map(|on| on.to_diesel()))
                .bind::<Nullable<sql_types::Date>, _>(standing.look_again.map(|on| on.to_diesel()))
                .bind::<Integer, _>(standing.silent)
                .bind::<Nullable<sql_types::Date>, _>(standing.record_ended.map(|on| on.to_diesel()))
                .bind::<Array<Text>, _>(&standing.controller_types)
                .bind::<Array<Text>, _>(&standing.ordinances)
                .get_result(connection)
                .optional()?;
            if stands.is_none() {
                return Ok(false);
            }
            diesel::delete(round_nights::table.filter(round_nights::site_id.eq(site))).execute(connection)?;
            let nights = round.nights.iter().map(|night| {
                (
                    round_nights::site_id.eq(site),
                    round_nights::number.eq(i32::from(night.number)),
                    round_nights::place.eq(&night.place),
                    round_nights::state.eq(night.state.code()),
                    round_nights::sentence.eq(&night.sentence),
                )
            });
            diesel::insert_into(round_nights::table)
                .values(nights.collect::<Vec<_>>())
                .execute(connection)?;
            diesel::delete(round_calls::table.filter(round_calls::site_id.eq(site))).execute(connection)?;
            let percent = |percentage: Percentage| i32::from(percentage.percent());
            let calls = round.calls.iter().map(|call| {
                (
                    (
                        round_calls::site_id.eq(site),
                        round_calls::number.eq(i32::from(call.number)),
                        round_calls::slot.eq(call.slot),
                        round_calls::controller_id.eq(call.controller_id),
                        round_calls::place.eq(&call.place),
                    ),
                    (
                        round_calls::program.eq(&call.program),
                        round_calls::set_pct.eq(percent(call.set)),
                        round_calls::advised_pct.eq(call.advised.map(percent)),
                        round_calls::because.eq(&call.because),
                        round_calls::week.eq(call.week.to_diesel()),
                        round_calls::record_ended.eq(call.record_ended.map(|last| last.to_diesel())),
                    ),
                )
            });
            diesel::insert_into(round_calls::table).values(calls.collect::<Vec<_>>()).execute(connection)?;
            notices::keep(connection, site, &round.notices, round.at)?;
            Ok(true)
        })
    }

    /// Asks for the rounds that are due. Returns of how many sites.
    ///
    /// # Errors
    /// As any query.
    pub fn ask_for_due_rounds(&self) -> Result<usize> {
        let sites: Vec<Number> =
            diesel::sql_query(DUE).bind::<BigInt, _>(self.build).load(&mut self.connection()?)?;
        self.ask_for_rounds(&sites.iter().map(|site| site.number).collect::<Vec<_>>())?;
        Ok(sites.len())
    }

    /// Asks for the rounds of some sites, where none is asked for. One asks at a time: where another is at it, its asking
    /// serves, and two that asked for the same in another order would wait for each other.
    ///
    /// # Errors
    /// As any query.
    pub fn ask_for_rounds(&self, sites: &[i64]) -> Result<()> {
        for some in sites.chunks(ASKED_AT_ONCE) {
            let asked: Result<bool> = self.connection()?.transaction(|connection| {
                let turn: Turn = diesel::sql_query("SELECT pg_try_advisory_xact_lock($1) AS mine")
                    .bind::<BigInt, _>(ASKING)
                    .get_result(connection)?;
                if turn.mine {
                    diesel::sql_query(ASK).bind::<Array<BigInt>, _>(some).execute(connection)?;
                }
                Ok(turn.mine)
            });
            if !asked? {
                break;
            }
        }
        Ok(())
    }
}
