//! The one way in: who asks, about which site, with its facts at one revision and the application's clock.

use crate::server::cache::{About, Key, Question, questions};
use crate::server::error::PageError;
use crate::server::request_locale::{asked, in_habit, off_loop};
use crate::server::session::{Asking, SignedIn};
use crate::server::state::AppState;
use crate::site::clock::Moment;
use crate::site::controller_snapshot::ControllerSnapshot;
use crate::site::records::SiteRecords;
use crate::site::snapshot::SiteSnapshot;
use actix_web::dev::Payload;
use actix_web::{FromRequest, HttpRequest, web};
use jiff::Timestamp;
use jiff::civil::Date;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use upland_store::accounts::SiteStamp;
use upland_store::scope::SiteKey;
use upland_store::settings::SettingsRecord;
use upland_store::{Change, Snapshot, StoreError};

questions! {
    /// The site at a moment.
    facts WholeSite {} -> SiteSnapshot;
    /// A controller of it.
    facts OneController { number: u8 } -> ControllerSnapshot;
    /// Versions of a controller's settings.
    facts Versions { controller: i64 } -> Vec<SettingsRecord>;
}

/// Somebody signed in, at a site.
pub(crate) struct AtSite {
    pub state: web::Data<AppState>,
    pub who: SignedIn,
    pub records: Arc<SiteRecords>,
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
        Box::pin(async move { Self::of_asking(asking.await?).await })
    }
}

impl FromRequest for EditorAt {
    type Error = PageError;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let asking = Asking::from_request(request, payload);
        Box::pin(async move {
            let Asking { state, who, site, .. } = asking.await?;
            if !who.may_edit() {
                return Err(PageError::Forbidden);
            }
            Ok(Self(AtSite::open(state, who, site.ok_or(PageError::NotFound)?).await?))
        })
    }
}

impl AtSite {
    /// The site that somebody asks about.
    pub async fn of_asking(asking: Asking) -> Result<Self, PageError> {
        let Asking { state, who, site, .. } = asking;
        Self::open(state, who, site.ok_or(PageError::NotFound)?).await
    }

    async fn open(state: web::Data<AppState>, who: SignedIn, stamp: SiteStamp) -> Result<Self, PageError> {
        let (shared, stamp) = (state.clone(), state.settled.of(stamp));
        let records = match SiteRecords::known(&state, stamp) {
            Some(records) => records,
            None => asked(move || SiteRecords::load(&shared, stamp)).await?,
        };
        Ok(Self { state, who, records, stamp })
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
        self.records.moment(asked, self.now(), self.stamp.last_reading)
    }

    /// The day on the clock at the site.
    pub fn today(&self) -> Date {
        self.now().to_zoned(self.records.tz.clone()).date()
    }

    /// The site, for questions about it.
    pub fn site_key(&self) -> SiteKey {
        self.stamp.id
    }

    /// The number of the site, for addresses.
    pub fn id(&self) -> i64 {
        self.stamp.id.number()
    }

    /// The facts of the site, for what is computed from them whatever the time.
    pub fn about(&self) -> About {
        let SiteStamp { id: site, readings, .. } = self.stamp;
        About::Site { site, revision: self.records.site.revision, readings }
    }

    /// The facts and the moment, for what is computed from both.
    pub fn about_moment(&self, moment: Moment) -> About {
        let SiteStamp { id: site, readings, .. } = self.stamp;
        let (revision, record_ended) = (self.records.site.revision, moment.record_ended.is_some());
        About::Moment { site, revision, readings, at: moment.at, record_ended }
    }

    /// Reads more of the database, at one instant, off the event loop.
    pub async fn read<T: Send + 'static>(
        &self,
        read: impl FnOnce(&mut Snapshot<'_>) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, PageError> {
        crate::server::state::read(&self.state, read).await
    }

    /// Reads more facts of the site off the event loop, once for a revision of it.
    pub async fn more<Q: Question>(
        &self,
        question: Q,
        kilobytes: usize,
        read: impl FnOnce(&mut Snapshot<'_>) -> Result<Q::Answer, StoreError> + Send + 'static,
    ) -> Result<Arc<Q::Answer>, PageError> {
        let key = Key::of_facts(self.about(), question);
        once(&self.state, key, move |_| kilobytes, move |state| Ok(state.store.read(read)?)).await
    }

    /// Versions of a controller's settings, newest first.
    pub async fn settings_history(
        &self,
        snapshot: &ControllerSnapshot,
    ) -> Result<Arc<Vec<SettingsRecord>>, PageError> {
        let id = snapshot.site_controller()?.record.id;
        self.more(Versions { controller: id }, 40, move |snapshot| snapshot.settings_history(id)).await
    }

    /// Changes the site in the name of who asks, all or nothing, off the event loop.
    pub async fn change<T: Send + 'static>(
        &self,
        change: impl FnOnce(&mut Change<'_>) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, PageError> {
        let (state, actor, id) = (self.state.clone(), self.who.user.id, self.stamp.id);
        asked(move || state.store.change(actor, id, change)).await?.ok_or(PageError::NotFound)
    }

    /// Computes the answer to a question off the event loop, once for the facts it is about; where it holds words, in
    /// the habit of who asks and once for each habit.
    pub async fn once<Q: Question>(
        &self,
        about: About,
        question: Q,
        kilobytes: usize,
        compute: impl FnOnce(&AppState) -> Result<Q::Answer, PageError> + Send + 'static,
    ) -> Result<Arc<Q::Answer>, PageError> {
        let habit = self.who.user.habit;
        let key = Key::for_reader(about, question, habit);
        once(&self.state, key, move |_| kilobytes, move |state| in_habit(habit, || compute(state))).await
    }

    /// A controller of the site now, with everything its pages are computed from.
    pub async fn controller_snapshot(&self, number: u8) -> Result<Arc<ControllerSnapshot>, PageError> {
        let site = self.snapshot(None).await?;
        let key = Key::of_facts(self.about_moment(site.moment), OneController { number });
        let size = 20 + 2 * self.records.zones.len();
        let build = move |_: &AppState| ControllerSnapshot::of_site(&site, number);
        once(&self.state, key, move |_| size, build).await
    }

    /// The site at a moment: now, or the evening of a day that was asked for.
    pub async fn snapshot(&self, asked: Option<Date>) -> Result<Arc<SiteSnapshot>, PageError> {
        let (moment, records, stamp) = (self.moment(asked), Arc::clone(&self.records), self.stamp);
        let build = move |state: &AppState| Ok(SiteSnapshot::build(state, records, stamp, moment)?);
        let key = Key::of_facts(self.about_moment(moment), WholeSite {});
        once(&self.state, key, SiteSnapshot::kilobytes, build).await
    }

    /// The same with its account computed, which is not the event loop's work.
    pub async fn snapshot_with_account(&self, asked: Option<Date>) -> Result<Arc<SiteSnapshot>, PageError> {
        let site = self.snapshot(asked).await?;
        let shared = Arc::clone(&site);
        off_loop(move || {
            shared.account();
        })
        .await?;
        Ok(site)
    }
}

/// Computes an answer off the event loop, once for its key.
async fn once<Q: Question>(
    state: &web::Data<AppState>,
    key: Key<Q>,
    kilobytes: impl FnOnce(&Q::Answer) -> usize + Send + 'static,
    compute: impl FnOnce(&AppState) -> Result<Q::Answer, PageError> + Send + 'static,
) -> Result<Arc<Q::Answer>, PageError> {
    if let Some(value) = state.cache.get(&key) {
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
    /// The facts of every site of the scope.
    about: About,
}

impl FromRequest for AllSites {
    type Error = PageError;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let asking = Asking::from_request(request, payload);
        Box::pin(async move { Ok(Self::of_asking(asking.await?)) })
    }
}

impl AllSites {
    /// All sites of who asks.
    pub fn of_asking(asking: Asking) -> Self {
        let Asking { state, who, everywhere, .. } = asking;
        let about = About::Sites { stamp: everywhere, scope: who.scope.clone() };
        Self { state, who, about }
    }

    /// Computes an answer from the facts of all sites off the event loop, once for them; where it holds words, in the
    /// habit of who asks and once for each habit.
    pub async fn once<Q: Question>(
        &self,
        question: Q,
        kilobytes: usize,
        compute: impl FnOnce(&AppState) -> Result<Q::Answer, PageError> + Send + 'static,
    ) -> Result<Arc<Q::Answer>, PageError> {
        let habit = self.who.user.habit;
        let key = Key::for_reader(self.about.clone(), question, habit);
        once(&self.state, key, move |_| kilobytes, move |state| in_habit(habit, || compute(state))).await
    }
}

/// The controller that a calendar's secret opens, as it stands now, without anybody signed in.
pub(crate) async fn of_calendar(
    state: &web::Data<AppState>,
    hash: Vec<u8>,
) -> Result<(ControllerSnapshot, Timestamp), PageError> {
    let state = state.clone();
    off_loop(move || {
        let found = state.store.read(|snapshot| {
            let Some(record) = snapshot.controller_of_calendar(&hash)? else { return Ok(None) };
            let stamp = snapshot.stamp(record.site_id)?;
            Ok(stamp.map(|stamp| (stamp, record.controller.number, snapshot.clock_ahead())))
        })?;
        let (stamp, number, ahead) = found.ok_or(PageError::NotFound)?;
        let now = crate::server::clock::now(ahead?);
        let records = SiteRecords::load(&state, stamp)?;
        let moment = records.moment(None, now, stamp.last_reading);
        let site = SiteSnapshot::build(&state, records, stamp, moment)?;
        Ok((ControllerSnapshot::of_site(&site, number)?, now))
    })
    .await?
}
