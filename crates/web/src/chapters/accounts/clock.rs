//! The clock of a demo: an owner lets a day or a week pass.

use crate::server::error::{PageError, see_other};
use crate::server::request_locale::off_loop;
use crate::server::session::{Fields, Owner, flash};
use crate::server::state::AppState;
use actix_web::{HttpResponse, post, web};
use jiff::SignedDuration;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(day).service(week);
}

/// Moves the clock and brings the weather of the days that passed, then goes back to the page.
async fn pass(
    state: web::Data<AppState>,
    who: &Owner,
    fields: &Fields,
    days: i64,
    said: &str,
) -> Result<HttpResponse, PageError> {
    let moved = off_loop(move || {
        let Some(ahead) = state.store.move_clock(SignedDuration::from_hours(24 * days))? else {
            return Ok(false);
        };
        state.heard_clock(Some(ahead));
        if let Some(bring) = state.bring_days {
            bring(&state.store, crate::server::clock::now(Some(ahead)))?;
        }
        Ok::<_, PageError>(true)
    })
    .await??;
    if !moved {
        return Err(PageError::BadRequest(
            "The clock shows real time; only that of a demo can be moved.".into(),
        ));
    }
    flash(&who.0.session, said, None)?;
    let back = fields.get("back");
    Ok(see_other(crate::server::address::own(back)))
}

#[post("/clock/day")]
async fn day(state: web::Data<AppState>, who: Owner, fields: Fields) -> Result<HttpResponse, PageError> {
    pass(state, &who, &fields, 1, "A day has passed.").await
}

#[post("/clock/week")]
async fn week(state: web::Data<AppState>, who: Owner, fields: Fields) -> Result<HttpResponse, PageError> {
    pass(state, &who, &fields, 7, "A week has passed.").await
}
