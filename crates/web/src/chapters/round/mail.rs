//! One mail a day, by choice: what began to need attention since the mail before.

use crate::page::dates::{DateFormat, in_own_words};
use crate::server::error::PageError;
use crate::server::mailer::Letter;
use crate::server::request_locale::in_habit;
use crate::server::state::AppState;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::fmt::Write;
use upland_store::mails::Mail;
use upland_store::rounds::{Asked, NoticeRow, Weight};

/// Notices that a mail lists; the others are counted.
const LISTED: i64 = 60;

/// Writes and sends the mail of a person's day; what was done, in words. `None` when it was sent before, or none is
/// wanted.
pub(crate) fn mail(state: &AppState, user: i64) -> Result<Option<String>, PageError> {
    let Some(mailer) = &state.mailer else { return Ok(None) };
    let Some(mail) = state.store.begin_mail(user)? else { return Ok(None) };
    let (notices, counts) = state.store.read(|snapshot| {
        let asked = Asked { kind: None, put_off: false, since: Some(mail.since), page: (LISTED, 0) };
        Ok((snapshot.notices(&mail.scope, asked)?, snapshot.notice_counts(&mail.scope, mail.since)?))
    })?;
    let of = |put_off: bool| counts.iter().filter(move |c| c.put_off == put_off);
    let new: i64 = of(false).map(|c| c.new).sum();
    let told = i32::try_from(new).unwrap_or(i32::MAX);
    if new > 0 {
        let older = of(false).map(|c| c.number).sum::<i64>() - new;
        let put_off = of(true).map(|c| c.number).sum();
        let public = state.configuration.public_url.as_deref().map(|url| url.trim_end_matches('/'));
        let letter = in_habit(mail.user.habit, || letter(&mail, &notices, new, older, put_off, public));
        if let Err(fault) = mailer.send(&letter) {
            state.store.end_mail(&mail, Err(&fault))?;
            return Err(PageError::BadRequest(fault));
        }
    }
    state.store.end_mail(&mail, Ok(told))?;
    Ok(Some(match new {
        0 => format!("nothing is new for {}: no mail", mail.user.display_name),
        n => format!("{n} new notices went to {}", mail.user.display_name),
    }))
}

fn things(n: i64) -> String {
    if n == 1 { "one new notice".to_owned() } else { format!("{n} new notices") }
}

/// The mail in words.
fn letter(
    mail: &Mail,
    notices: &[NoticeRow],
    new: i64,
    older: i64,
    put_off: i64,
    public: Option<&str>,
) -> Letter {
    let tz = TimeZone::get(&mail.choice.zone).unwrap_or(TimeZone::UTC);
    let when = |at: Timestamp| at.to_zoned(tz.clone()).formatted("%a %-d %b, %H:%M");
    let link = |path: &str| public.map(|url| format!("{url}{path}"));
    let mut text = format!("New since {}:\n", when(mail.since));
    let mut site = None;
    for row in notices {
        if site != Some(row.site_id) {
            let _ = write!(text, "\n{}\n", row.site);
            site = Some(row.site_id);
        }
        let sign = match row.notice.weight {
            Weight::Fault => "!!",
            Weight::Warning => "! ",
            Weight::Task => "- ",
        };
        let _ = writeln!(text, "  {sign} {}", in_own_words(&row.notice.words));
        if let Some(url) = link(&row.notice.href) {
            let _ = writeln!(text, "     {url}");
        }
    }
    let listed = i64::try_from(notices.len()).unwrap_or(i64::MAX);
    if new > listed {
        let _ = write!(text, "\nand {} more.\n", new - listed);
    }
    let _ = write!(text, "\n{older} older remain, {put_off} are snoozed.");
    if let Some(url) = link("/notices") {
        let _ = write!(text, " All of them: {url}");
    }
    let own = link("/me/mail").unwrap_or_else(|| "\"Your settings\", \"One mail a day\"".to_owned());
    let _ = write!(
        text,
        "\n\nYou asked for one mail a day, and it comes only when something is new. To change that: {own}\n"
    );
    Letter {
        id: format!("notices-{}-{}", mail.user.id, mail.day),
        to: mail.choice.to.clone(),
        name: mail.user.display_name.clone(),
        subject: format!("Upland Almanac: {}", things(new)),
        text,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use upland_formats::typed::{Clock, DateOrder, Habit};
    use upland_store::accounts::{Role, User};
    use upland_store::mails::MailChoice;
    use upland_store::rounds::{Notice, NoticeKind};

    fn mail() -> Mail {
        Mail {
            user: User {
                id: 7,
                login: "bram".into(),
                display_name: "Bram".into(),
                role: Role::Technician,
                habit: Habit::default(),
                disabled: false,
            },
            scope: crate::fixture::scope(),
            choice: MailChoice { to: "bram@example.net".into(), at_min: 360, zone: "Etc/GMT+2".into() },
            day: jiff::civil::date(2026, 7, 15),
            since: "2026-07-14T08:00:00Z".parse().unwrap(),
        }
    }

    fn notice(site: i64, weight: Weight, words: [&str; 2]) -> NoticeRow {
        let words = [words[0], words[0], words[1], words[1]].map(str::to_owned).to_vec();
        let href = format!("/sites/{site}/today");
        NoticeRow {
            id: 1,
            site_id: crate::fixture::key(site),
            site: format!("Site {site}"),
            notice: Notice { kind: NoticeKind::Night, about: "controller 1".into(), weight, words, href },
            first_at: Timestamp::UNIX_EPOCH,
            put_off: None,
        }
    }

    #[test]
    fn a_mail_says_site_by_site_what_is_new_and_how_much_stands() {
        let notices = [
            notice(1, Weight::Fault, ["1 Shed: forbidden at 22:00.", "1 Shed: forbidden at 10:00 PM."]),
            notice(1, Weight::Task, ["2 Yard: set 90 %.", "2 Yard: set 90 %."]),
            notice(4, Weight::Warning, ["Rain switch: silent.", "Rain switch: silent."]),
        ];
        let (plain, us) = (mail(), Habit { clock: Clock::Hours12, dates: DateOrder::MonthFirst });
        let with = letter(&plain, &notices, 5, 12, 1, Some("https://almanac.example"));
        insta::assert_snapshot!(format!("{}\n{}\n\n{}", with.id, with.subject, with.text));
        let without = in_habit(us, || letter(&plain, &notices[..1], 1, 0, 0, None));
        assert_eq!(without.subject, "Upland Almanac: one new notice");
        assert!(
            without.text.starts_with(
                "New since Tue Jul 14, 6:00 AM:\n\nSite 1\n  !! 1 Shed: forbidden at 10:00 PM.\n"
            )
        );
        assert!(!without.text.contains("http"), "an address that nobody can open is none: {}", without.text);
    }
}
