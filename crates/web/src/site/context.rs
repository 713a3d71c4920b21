//! The one way in: who asks, about which site, with its facts at one revision and the application's clock.

use crate::server::error::PageError;
use crate::server::reader::{asked, off_loop};
use crate::server::session::{Asking, SignedIn};
use crate::server::state::AppState;
use crate::site::clock::Moment;
use crate::site::facts::SiteFacts;
use crate::site::sensing::SensorStates;
use crate::site::workbench::Workbench;
use actix_web::dev::Payload;
use actix_web::{FromRequest, HttpRequest, web};
use jiff::Timestamp;
use jiff::civil::Date;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use upland_core::account::whole::{SiteAccount, Way};
use upland_core::advice::tonight::{Tonight, account_of, evening_of, tonight};
use upland_store::accounts::{Role, SiteStamp};
use upland_store::scope::SiteKey;
use upland_store::settings::SettingsRecord;
use upland_store::{Change, Snapshot, StoreError};

/// Somebody signed in, at a site.
pub(crate) struct AtSite {
    pub state: web::Data<AppState>,
    pub who: SignedIn,
    pub facts: Arc<SiteFacts>,
    stamp: SiteStamp,
}

/// Somebody who may change the site: a technician or the owner.
pub(crate) struct EditorAt(pub AtSite);

type Extracted<T> = Pin<Box<dyn Future<Output = Result<T, PageError>>>>;

impl FromRequest for AtSite {
    type Error = PageError;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let asking = Asking::from_request(request, payload);
        Box::pin(async move {
            let Asking { state, who, site, .. } = asking.await?;
            Self::open(state, who, site.ok_or(PageError::NotFound)?).await
        })
    }
}

impl FromRequest for EditorAt {
    type Error = PageError;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let asking = Asking::from_request(request, payload);
        Box::pin(async move {
            let Asking { state, who, site, .. } = asking.await?;
            if who.user.role < Role::Technician {
                return Err(PageError::Forbidden);
            }
            Ok(Self(AtSite::open(state, who, site.ok_or(PageError::NotFound)?).await?))
        })
    }
}

impl AtSite {
    async fn open(state: web::Data<AppState>, who: SignedIn, stamp: SiteStamp) -> Result<Self, PageError> {
        let (shared, stamp) = (state.clone(), state.settled.of(stamp));
        let facts = match SiteFacts::known(&state, stamp) {
            Some(facts) => facts,
            None => asked(move || SiteFacts::load(&shared, stamp)).await?,
        };
        Ok(Self { state, who, facts, stamp })
    }

    /// The same with the facts as they stand after somebody else's write.
    pub async fn again(&self) -> Result<Self, PageError> {
        let id = self.stamp.id;
        let stamp = self.read(move |snapshot| snapshot.stamp(id)).await?.ok_or(PageError::NotFound)?;
        Self::open(self.state.clone(), self.who.clone(), stamp).await
    }

    /// The application's time, to the minute: what is computed for a minute serves everybody in it.
    pub fn now(&self) -> Timestamp {
        self.who.now
    }

    /// What the page is about.
    pub fn moment(&self, asked: Option<Date>) -> Moment {
        self.facts.moment(asked, self.now(), self.stamp.last_reading)
    }

    /// The day on the clock at the site.
    pub fn today(&self) -> Date {
        self.now().to_zoned(self.facts.tz.clone()).date()
    }

    /// The site, for questions about it.
    pub fn site_key(&self) -> SiteKey {
        self.stamp.id
    }

    /// The number of the site, for addresses.
    pub fn id(&self) -> i64 {
        self.stamp.id.number()
    }

    /// Names the facts, as a key of what is computed from them whatever the time.
    pub fn facts_key(&self) -> String {
        let (id, readings) = (self.stamp.id, self.stamp.readings);
        format!("site {id} revision {} readings {readings}", self.facts.site.revision)
    }

    /// Names the facts and the moment, as a key of what is computed from them.
    pub fn key(&self, moment: Moment) -> String {
        format!("{} at {}, record ended {}", self.facts_key(), moment.at, moment.record_ended.is_some())
    }

    /// Reads more of the database, at one instant, off the event loop.
    pub async fn read<T: Send + 'static>(
        &self,
        read: impl FnOnce(&mut Snapshot<'_>) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, PageError> {
        crate::server::state::read(&self.state, read).await
    }

    /// Reads more facts of the site off the event loop, once for a revision of it.
    pub async fn more<T: Send + Sync + 'static>(
        &self,
        what: &str,
        kilobytes: usize,
        read: impl FnOnce(&mut Snapshot<'_>) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<Arc<T>, PageError> {
        let key = format!("{} {what}", self.facts_key());
        self.once_for_all(key, kilobytes, move |state| Ok(state.store.read(read)?)).await
    }

    /// Versions of a controller's settings, newest first.
    pub async fn settings_history(&self, bench: &Workbench) -> Result<Arc<Vec<SettingsRecord>>, PageError> {
        let id = bench.site_controller()?.record.id;
        self.more(&format!("controller {id}"), 40, move |snapshot| snapshot.settings_history(id)).await
    }

    /// Changes the site in the name of who asks, all or nothing, off the event loop.
    pub async fn change<T: Send + 'static>(
        &self,
        change: impl FnOnce(&mut Change<'_>) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, PageError> {
        let (state, actor, id) = (self.state.clone(), self.who.user.id, self.stamp.id);
        asked(move || state.store.change(actor, id, change)).await?.ok_or(PageError::NotFound)
    }

    /// Computes something from the facts off the event loop, once for a key. It may hold words: each habit of
    /// reading has its own.
    pub async fn once<T: Send + Sync + 'static>(
        &self,
        key: String,
        kilobytes: usize,
        compute: impl FnOnce(&AppState) -> Result<T, PageError> + Send + 'static,
    ) -> Result<Arc<T>, PageError> {
        once(&self.state, worded(&key), move |_| kilobytes, compute).await
    }

    /// The same for what holds no words: once whoever reads it.
    async fn once_for_all<T: Send + Sync + 'static>(
        &self,
        key: String,
        kilobytes: usize,
        compute: impl FnOnce(&AppState) -> Result<T, PageError> + Send + 'static,
    ) -> Result<Arc<T>, PageError> {
        once(&self.state, key, move |_| kilobytes, compute).await
    }

    /// A controller of the site with everything its pages are computed from.
    pub async fn workbench(&self, number: u8) -> Result<Arc<Workbench>, PageError> {
        let (moment, facts, stamp) = (self.moment(None), Arc::clone(&self.facts), self.stamp);
        let key = format!("{} controller {number}", self.key(moment));
        let size = 20 + 2 * facts.zones.len();
        self.once_for_all(key, size, move |state| Workbench::open(state, &facts, (stamp, moment), number))
            .await
    }

    /// The site's account up to the evening of a date, or now.
    pub async fn at_work(&self, asked: Option<Date>) -> Result<Arc<SiteAtWork>, PageError> {
        let (moment, states) = (self.moment(asked), self.sensor_states(asked).await?);
        let kilobytes = 50 + 160 * self.facts.zones.len();
        // The account counts whole hours, so that it serves every minute of one.
        let hour = evening_of(&states.facts, moment.date, moment.at).as_second().div_euclid(3600);
        let ended = moment.record_ended.is_some();
        let key = format!(
            "{} account of {} until hour {hour}, record ended {ended}",
            self.facts_key(),
            moment.date
        );
        self.once_for_all(key, kilobytes, move |_| Ok(SiteAtWork::of(states, moment))).await
    }

    /// The site's sensors with what they say, on the evening of a date or now.
    pub async fn sensor_states(&self, asked: Option<Date>) -> Result<Arc<SensorStates>, PageError> {
        let (moment, facts, stamp) = (self.moment(asked), Arc::clone(&self.facts), self.stamp);
        let build = move |state: &AppState| Ok(SensorStates::build(state, facts, (stamp, moment))?);
        once(&self.state, self.key(moment), SensorStates::kilobytes, build).await
    }
}

/// A site at a moment: its sensors, every fact of its account, and the account up to the evening.
pub(crate) struct SiteAtWork {
    pub states: Arc<SensorStates>,
    pub account: SiteAccount,
    pub moment: Moment,
}

impl SiteAtWork {
    /// Counts the water of a site up to the evening of a moment.
    pub fn of(states: Arc<SensorStates>, moment: Moment) -> Self {
        let account = account_of(&states.facts, Way::Best, moment.date, moment.at);
        Self { states, account, moment }
    }

    /// The night of a controller: what it will do, what its zones need, and whether the one is right for the other.
    pub fn night(&self, number: u8) -> Tonight {
        tonight(&self.states.facts, &self.account, number, self.moment.date)
    }
}

/// A site as it stands now, for work that no page waits for.
pub(crate) struct SiteNow {
    pub states: Arc<SensorStates>,
    pub moment: Moment,
    pub stamp: SiteStamp,
    /// The application's time, to the minute.
    pub now: Timestamp,
}

impl SiteNow {
    /// Opens a site; `None` when it is not there.
    pub fn open(state: &AppState, site: SiteKey) -> Result<Option<Self>, PageError> {
        let found = state.store.read(|snapshot| Ok((snapshot.stamp(site)?, snapshot.clock_ahead()?)))?;
        let (Some(stamp), ahead) = found else { return Ok(None) };
        let now = crate::server::clock::now(ahead);
        let facts = match SiteFacts::load(state, stamp) {
            Err(PageError::NotFound) => return Ok(None),
            read => read?,
        };
        let moment = facts.moment(None, now, stamp.last_reading);
        let stamp = SiteStamp { revision: facts.site.revision, ..stamp };
        let states = Arc::new(SensorStates::build(state, facts, (stamp, moment))?);
        Ok(Some(Self { states, moment, stamp, now }))
    }
}

/// The key of something with words in it.
fn worded(key: &str) -> String {
    format!("{key} as {:?}", crate::server::reader::habit())
}

/// Computes something off the event loop, once for a key that names what it follows from.
async fn once<T: Send + Sync + 'static>(
    state: &web::Data<AppState>,
    key: String,
    kilobytes: impl FnOnce(&T) -> usize + Send + 'static,
    compute: impl FnOnce(&AppState) -> Result<T, PageError> + Send + 'static,
) -> Result<Arc<T>, PageError> {
    if let Some(value) = state.cache.get::<T>(&key) {
        return Ok(value);
    }
    let state = state.clone();
    off_loop(move || {
        let mut refused = None;
        let value = state.cache.once(key, kilobytes, || {
            compute(&state).map_err(|error| {
                refused = Some(error);
                StoreError::Cancelled
            })
        });
        match refused {
            Some(error) => Err(error),
            None => Ok(value?),
        }
    })
    .await?
}

/// Somebody signed in, over all sites.
pub(crate) struct AllSites {
    pub state: web::Data<AppState>,
    pub who: SignedIn,
    /// Names the facts of every site of the scope, as a key of what is computed from them.
    key: String,
}

impl FromRequest for AllSites {
    type Error = PageError;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let asking = Asking::from_request(request, payload);
        Box::pin(async move {
            let Asking { state, who, everywhere, .. } = asking.await?;
            let key = format!("sites {everywhere:?} of {:?}", who.scope);
            Ok(Self { state, who, key })
        })
    }
}

impl AllSites {
    /// Computes something from the facts of all sites off the event loop, once for a key.
    pub async fn once<T: Send + Sync + 'static>(
        &self,
        asked: &str,
        kilobytes: usize,
        compute: impl FnOnce(&AppState) -> Result<T, PageError> + Send + 'static,
    ) -> Result<Arc<T>, PageError> {
        once(&self.state, worded(&format!("{asked} of {}", self.key)), move |_| kilobytes, compute).await
    }
}

/// The controller that a calendar's secret opens, as it stands now, without anybody signed in.
pub(crate) async fn of_calendar(
    state: &web::Data<AppState>,
    hash: Vec<u8>,
) -> Result<(Workbench, Timestamp), PageError> {
    let state = state.clone();
    off_loop(move || {
        let found = state.store.read(|snapshot| {
            let Some(record) = snapshot.controller_of_calendar(&hash)? else { return Ok(None) };
            let stamp = snapshot.stamp(record.site_id)?;
            Ok(stamp.map(|stamp| (stamp, record.controller.number, snapshot.clock_ahead())))
        })?;
        let (stamp, number, ahead) = found.ok_or(PageError::NotFound)?;
        let now = crate::server::clock::now(ahead?);
        let facts = SiteFacts::load(&state, stamp)?;
        let moment = facts.moment(None, now, stamp.last_reading);
        Ok((Workbench::open(&state, &facts, (stamp, moment), number)?, now))
    })
    .await?
}
