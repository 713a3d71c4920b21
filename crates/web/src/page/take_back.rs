//! Taking something back and letting it stand again: one answer for every list that can.

use crate::server::error::{PageError, see_other};
use crate::server::session::flash;
use crate::site::context::AtSite;
use actix_web::HttpResponse;
use upland_store::Subject;

/// Something that can be taken back.
pub(crate) struct TakeBack {
    pub subject: Subject,
    /// The zone or sensor that it belongs to, or the site.
    pub under: i64,
    pub id: i64,
    /// Address under which it is undone and redone.
    pub address: String,
    /// Where the list is.
    pub list: String,
    /// What is said when it is taken back, and when it stands again.
    pub said: (&'static str, &'static str),
}

impl TakeBack {
    /// Takes it back or lets it stand again, says so with the way back, and shows the list.
    pub async fn set(self, here: &AtSite, undone: bool) -> Result<HttpResponse, PageError> {
        let (subject, of, at) = (self.subject, (self.under, self.id), undone.then(|| here.now()));
        if !here.change(move |change| change.take_back(subject, of.0, of.1, at)).await? {
            return Err(PageError::NotFound);
        }
        let (text, back) = if undone { (self.said.0, "redo") } else { (self.said.1, "undo") };
        flash(&here.who.session, text, Some(format!("{}/{back}", self.address)))?;
        Ok(see_other(&self.list))
    }
}
