//! One's own settings: how times and dates are read and written.

use crate::page::dates::Said;
use crate::page::frame::Frame;
use crate::server::error::{PageError, page, see_other};
use crate::server::session::{Fields, SignedIn, flash};
use crate::server::state::{AppState, with_store};
use actix_web::{HttpResponse, get, post, web};
use askama::Template;
use upland_formats::typed::{Clock, DateOrder, Habit};

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
}

#[get("/me")]
async fn me(who: SignedIn) -> Result<HttpResponse, PageError> {
    let Habit { clock, dates } = who.user.habit;
    page(&MePage {
        frame: Frame::new(&who, "Your settings")?,
        twelve_hours: clock == Clock::Hours12,
        month_first: dates == DateOrder::MonthFirst,
        now: who.now.said("%A %-d %B %Y, %H:%M"),
    })
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
