//! One's own settings: how times and dates are read and written, the password, the sessions.

use crate::page::dates::DateFormat;
use crate::page::frame::Frame;
use crate::server::error::{PageError, page_with, see_other};
use crate::server::session::{Fields, SignedIn, flash, own_hash};
use crate::server::state::{AppState, read, with_store};
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use jiff::tz::TimeZone;
use upland_formats::typed::{Clock, DateOrder, Habit};
use upland_store::passwords::SessionRecord;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(me).service(save);
}

#[derive(Template)]
#[template(path = "chapters/accounts/me.html")]
struct MePage {
    frame: Frame,
    twelve_hours: bool,
    month_first: bool,
    now: String,
    /// Each with whether it is the one that asks.
    sessions: Vec<(String, bool)>,
    errors: Vec<&'static str>,
}

/// The page, with what was wrong about a new password.
pub(super) async fn draw(
    state: &web::Data<AppState>,
    who: &SignedIn,
    status: StatusCode,
    errors: Vec<&'static str>,
) -> Result<HttpResponse, PageError> {
    let Habit { clock, dates } = who.user.habit;
    let (id, own) = (who.user.id, own_hash(&who.session)?);
    let sessions = read(state, move |snapshot| snapshot.sessions_of(id)).await?;
    let line = |session: SessionRecord| {
        let began = session.began.to_zoned(TimeZone::UTC).formatted("%-d %b %Y, %H:%M");
        (format!("since {began}, universal time"), session.token_sha256 == own)
    };
    page_with(
        status,
        &MePage {
            frame: Frame::new(who, "Your settings")?,
            twelve_hours: clock == Clock::Hours12,
            month_first: dates == DateOrder::MonthFirst,
            now: who.now.formatted("%A %-d %B %Y, %H:%M"),
            sessions: sessions.into_iter().map(line).collect(),
            errors,
        },
    )
}

#[get("/me")]
async fn me(state: web::Data<AppState>, who: SignedIn) -> Result<HttpResponse, PageError> {
    draw(&state, &who, StatusCode::OK, Vec::new()).await
}

#[post("/me")]
async fn save(state: web::Data<AppState>, who: SignedIn, fields: Fields) -> Result<HttpResponse, PageError> {
    let habit = Habit {
        clock: if fields.get("clock") == "12" { Clock::Hours12 } else { Clock::Hours24 },
        dates: if fields.get("dates") == "month" { DateOrder::MonthFirst } else { DateOrder::DayFirst },
    };
    let id = who.user.id;
    with_store(&state, move |store| store.set_habit(id, habit)).await?;
    flash(&who.session, "Times and dates are written and read your way from here on.", None)?;
    Ok(see_other("/me"))
}
