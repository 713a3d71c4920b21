//! Storing settings of a controller as a new version, and saying what became of them: once for every page that does.

use crate::server::error::{PageError, see_other};
use crate::server::session::flash;
use crate::site::context::AtSite;
use crate::site::controller_snapshot::ControllerSnapshot;
use actix_web::HttpResponse;
use upland_core::controller::schedule::Settings;
use upland_store::Saved;
use upland_store::settings::{NewSettings, SettingsKind, SettingsRecord};

/// Settings to be stored.
pub(crate) struct ControllerVersion {
    pub settings: Settings,
    pub kind: SettingsKind,
    pub reason: String,
    /// The version that they were made from; 0 when there was none.
    pub base: i32,
}

/// What is said of a version, and where one goes then.
pub(crate) struct Sayings<'a> {
    /// What is done, by the number of the new version.
    pub done: &'a dyn Fn(i32) -> String,
    /// Where one goes when it is done.
    pub done_at: String,
    /// What to do when somebody saved in between.
    pub meanwhile: &'a str,
    /// Where that is done.
    pub again_at: String,
    /// Whether the version before is offered as the way back.
    pub undo: bool,
}

impl ControllerVersion {
    /// Stores them.
    pub async fn store(
        self,
        here: &AtSite,
        snapshot: &ControllerSnapshot,
    ) -> Result<Saved<SettingsRecord>, PageError> {
        let id = snapshot.site_controller()?.record.id;
        let saved = here
            .change(move |change| {
                let new = NewSettings { settings: &self.settings, kind: self.kind, reason: &self.reason };
                change.save_settings(id, self.base, new)
            })
            .await?;
        saved.ok_or(PageError::NotFound)
    }

    /// Stores them, says what became of them, and goes on.
    pub async fn save(
        self,
        here: &AtSite,
        snapshot: &ControllerSnapshot,
        say: Sayings<'_>,
    ) -> Result<HttpResponse, PageError> {
        let base = self.base;
        let session = &here.who.session;
        match self.store(here, snapshot).await? {
            Saved::As(version) => {
                let undo = say.undo && base > 0;
                let undo = undo.then(|| format!("{}/history/{base}/restore", snapshot.path()));
                flash(session, (say.done)(version), undo)?;
                Ok(see_other(&say.done_at))
            }
            Saved::Unchanged(version) => {
                flash(
                    session,
                    format!("The controller is set to that already, as version {version}."),
                    None,
                )?;
                Ok(see_other(&say.done_at))
            }
            Saved::Conflict(theirs) => {
                let text = format!(
                    "{} saved version {} in the meantime. {}",
                    theirs.saved_by, theirs.version, say.meanwhile
                );
                flash(session, text, None)?;
                Ok(see_other(&say.again_at))
            }
        }
    }
}
