//! Stores what was looked at, each site in a transaction of its own, and takes it back.

use super::action::{Change, Planned};
use crate::server::address;
use crate::server::state::AppState;
use std::collections::BTreeMap;
use upland_store::scope::{Scope, SiteKey};
use upland_store::settings::{NewSettings, SettingsKind};
use upland_store::{Saved, StoreError};

/// What became of a site.
#[derive(Debug)]
pub(super) struct Outcome {
    pub href: String,
    pub site: String,
    pub words: String,
    pub is_done: bool,
    /// The field that takes it back, with its value.
    pub undo: Vec<(String, String)>,
    /// Where what changed is programmed, by controller.
    pub program: Vec<(String, String)>,
}

/// Why a site was left as it was.
enum Left {
    Meanwhile(String),
    Gone,
}

/// A site's lines, in order.
fn by_site(lines: Vec<Planned>) -> Vec<(i64, Vec<Planned>)> {
    let mut grouped: Vec<(i64, Vec<Planned>)> = Vec::new();
    for line in lines {
        match grouped.last_mut() {
            Some((site, own)) if *site == line.site => own.push(line),
            _ => grouped.push((line.site, vec![line])),
        }
    }
    grouped
}

/// Stores the lines that change something: of a site all or nothing. `sent` names the versions that were looked at.
pub(super) fn apply(
    state: &AppState,
    actor: i64,
    scope: &Scope,
    lines: Vec<Planned>,
    sent: &BTreeMap<String, String>,
    reason: &str,
) -> Vec<Outcome> {
    let mut outcomes = Vec::new();
    for (number, own) in by_site(lines) {
        let Some(site) = scope.site(number) else { continue };
        let name = own.first().map_or(String::new(), |line| line.site_name.clone());
        let refused: Vec<String> = own
            .iter()
            .filter_map(|line| line.refused.as_ref().map(|why| format!("{}: {why}", line.what)))
            .collect();
        let changing: Vec<&Planned> = own.iter().filter(|line| line.changes()).collect();
        if changing.is_empty() && refused.is_empty() {
            continue;
        }
        let stored = one_site(state, actor, site, &changing, sent, reason);
        let mut outcome = Outcome {
            href: address::today(number),
            site: name,
            words: String::new(),
            is_done: false,
            undo: Vec::new(),
            program: Vec::new(),
        };
        match stored {
            Ok(undo) => {
                let done: Vec<String> = changing.iter().map(|line| done_words(line)).collect();
                outcome.words =
                    done.into_iter().chain(refused.iter().cloned()).collect::<Vec<_>>().join("; ");
                outcome.is_done = refused.is_empty();
                let settings = changing.iter().filter(|line| line.version().is_some());
                let walk = |line: &&&Planned| {
                    let controller = line.what.split(' ').next().unwrap_or("1").parse().unwrap_or(1);
                    (format!("{}/walk", address::site_controller(number, controller)), line.what.clone())
                };
                outcome.program = settings.collect::<Vec<_>>().iter().map(walk).collect();
                outcome.undo = undo;
            }
            Err(why) => outcome.words = why,
        }
        outcomes.push(outcome);
    }
    outcomes
}

fn done_words(line: &Planned) -> String {
    if line.what.is_empty() { line.after.clone() } else { format!("{}: {}", line.what, line.after) }
}

/// Stores a line; what takes it back, or why the whole site is left as it was.
fn one_line(
    change: &mut upland_store::Change<'_>,
    line: &Planned,
    sent: &BTreeMap<String, String>,
    reason: &str,
) -> Result<Result<Option<(String, String)>, Left>, StoreError> {
    Ok(match &line.change {
        Some(Change::Settings { controller, base, settings }) => {
            let looked_at = sent.get(&format!("v-{controller}")).and_then(|v| v.parse().ok());
            if looked_at != Some(*base) {
                return Ok(Err(Left::Meanwhile("Somebody".into())));
            }
            let new = NewSettings { settings, kind: SettingsKind::Changed, reason };
            match change.save_settings(*controller, *base, new)? {
                Some(Saved::As(version)) => {
                    Ok(Some((format!("u-{controller}"), format!("{} {base} {version}", line.site))))
                }
                Some(Saved::Unchanged(_)) => Ok(None),
                Some(Saved::Conflict(theirs)) => Err(Left::Meanwhile(theirs.saved_by.clone())),
                None => Err(Left::Gone),
            }
        }
        Some(Change::Assigned(to)) => {
            let before = change.assigned_to()?.map_or("none".into(), |id| id.to_string());
            Ok(change.assign(*to)?.then(|| (format!("a-{}", line.site), before)))
        }
        None => Ok(None),
    })
}

/// Stores the changes of a site; what takes them back again, or why nothing was stored.
fn one_site(
    state: &AppState,
    actor: i64,
    site: SiteKey,
    changing: &[&Planned],
    sent: &BTreeMap<String, String>,
    reason: &str,
) -> Result<Vec<(String, String)>, String> {
    let mut left = None;
    let stored = state.store.change(actor, site, |change| {
        let mut undo = Vec::new();
        for line in changing {
            match one_line(change, line, sent, reason)? {
                Ok(back) => undo.extend(back),
                Err(why) => {
                    left = Some(why);
                    return Err(StoreError::Cancelled);
                }
            }
        }
        Ok(undo)
    });
    match (stored, left) {
        (Ok(Some(undo)), _) => Ok(undo),
        (Ok(None), _) => Err("The site was removed meanwhile; nothing was stored.".into()),
        (Err(_), Some(Left::Meanwhile(who))) => Err(format!(
            "{who} saved other settings meanwhile; nothing was stored here. Look at the preview again."
        )),
        (Err(_), Some(Left::Gone)) => {
            Err("A controller was removed meanwhile; nothing was stored here.".into())
        }
        (Err(error), None) => {
            tracing::error!(%error, "a site of many was not stored");
            Err("The database did not store it; nothing was changed here. Try this site again.".into())
        }
    }
}

/// Takes back what `u-` and `a-` fields name, where nothing changed since.
pub(super) fn take_back(
    state: &AppState,
    actor: i64,
    scope: &Scope,
    sent: &BTreeMap<String, String>,
) -> Vec<Outcome> {
    let mut outcomes = Vec::new();
    for (name, value) in sent {
        let Some((site, result)) = one_back(state, actor, scope, name, value) else { continue };
        let named = state.store.read(|snapshot| snapshot.site(site)).ok().flatten();
        let (words, is_done) = match result {
            Ok(words) => (words, true),
            Err(words) => (words, false),
        };
        outcomes.push(Outcome {
            href: address::today(site.number()),
            site: named.map_or(String::new(), |record| record.site.name),
            words,
            is_done,
            undo: Vec::new(),
            program: Vec::new(),
        });
    }
    outcomes
}

/// Takes one thing back; `None` for a field that names nothing, or a site that its sender does not see.
fn one_back(
    state: &AppState,
    actor: i64,
    scope: &Scope,
    name: &str,
    value: &str,
) -> Option<(SiteKey, Result<String, String>)> {
    let failed = || Err("It was changed since; it is left as it is.".to_owned());
    if let Some(number) = name.strip_prefix("a-") {
        let site = scope.site(number.parse().ok()?)?;
        let to = value.parse::<i64>().ok();
        let stored = state.store.change(actor, site, |change| change.assign(to));
        let done = matches!(stored, Ok(Some(true)));
        return Some((site, if done { Ok("Assigned as before.".into()) } else { failed() }));
    }
    let controller: i64 = name.strip_prefix("u-")?.parse().ok()?;
    let mut parts = value.split(' ');
    let site = scope.site(parts.next()?.parse().ok()?)?;
    let (before, now): (i32, i32) = (parts.next()?.parse().ok()?, parts.next()?.parse().ok()?);
    let stored = state.store.change(actor, site, |change| change.restore_settings(controller, before, now));
    let done = matches!(stored, Ok(Some(true)));
    Some((site, if done { Ok("Set as before.".into()) } else { failed() }))
}
