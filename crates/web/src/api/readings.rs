//! Readings that devices post.
//!
//! A post is accepted or refused whole by its token and shape; of its readings each is taken, known
//! already, or refused with a reason. What is acknowledged is stored.

use super::error::problem;
use super::token::bearer;
use crate::server::session::hash;
use crate::server::state::{AppState, with_store};
use crate::server::visitor::address_of;
use actix_web::http::{StatusCode, header};
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use jiff::{SignedDuration, Timestamp};
use std::collections::BTreeMap;
use upland_core::codes::Coded;
use upland_core::sensors::{Channel, Reading};
use upland_formats::api::Time;
use upland_formats::api::readings::{Post, PostedReading, RefusedReading, Taken};
use upland_store::readings::{ChannelReading, Posting};

/// Most readings of a post.
const MOST: usize = 5_000;
/// New readings of a device in a day of universal time: ten channels every minute are 14 400, and 400 days by the hour
/// that are brought after a failure 96 000.
const MOST_A_DAY: usize = 250_000;
/// Largest accepted post, bytes.
const MAX_BYTES: usize = 1024 * 1024;
/// A stamp further ahead than this is refused.
const FUTURE: SignedDuration = SignedDuration::from_mins(10);
/// A clock off by more than this is flagged.
const SKEW: SignedDuration = SignedDuration::from_mins(2);
/// A stamp older than this is refused, days.
const STALE_DAYS: i64 = 400;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .app_data(web::JsonConfig::default().limit(MAX_BYTES).error_handler(|error, _| {
            let message = format!("the body is not as described: {error}");
            let status = match &error {
                actix_web::error::JsonPayloadError::OverflowKnownLength { .. }
                | actix_web::error::JsonPayloadError::Overflow { .. } => StatusCode::PAYLOAD_TOO_LARGE,
                actix_web::error::JsonPayloadError::ContentType => StatusCode::UNSUPPORTED_MEDIA_TYPE,
                _ => StatusCode::BAD_REQUEST,
            };
            actix_web::error::InternalError::from_response(error, problem(status, &message)).into()
        }))
        .service(take)
        .service(time);
}

/// A reading that can be kept, or why not.
fn judge(dto: &PostedReading, now: Timestamp) -> Result<ChannelReading, String> {
    let channel = Channel::from_code(&dto.channel).ok_or_else(|| {
        let known: Vec<&str> = Channel::TABLE.iter().map(|(_, code)| *code).collect();
        format!("unknown channel; known are {}", known.join(", "))
    })?;
    let at: Timestamp = dto.at.parse().map_err(|_| "the stamp is not RFC 3339 with an offset".to_owned())?;
    // The database keeps microseconds, and instants that devices can mean.
    let at = Timestamp::from_microsecond(at.as_microsecond())
        .map_err(|_| "the stamp is not an instant".to_owned())?;
    if at > now + FUTURE {
        return Err("the stamp lies in the future; set the device's clock".to_owned());
    }
    if at < now - SignedDuration::from_hours(24 * STALE_DAYS) {
        return Err(format!("the stamp is older than {STALE_DAYS} days; bring old records as a file"));
    }
    channel.bound().check(dto.value).map_err(|error| error.to_string())?;
    Ok((channel, Reading { at, value: dto.value }))
}

/// The first words of a reason, by which refusals are counted.
fn kind_of(reason: &str) -> &str {
    if reason.starts_with("unknown channel") {
        "unknown channel"
    } else if reason.contains("future") {
        "future stamp"
    } else if reason.contains("older than") {
        "stale stamp"
    } else if reason.contains("stamp") {
        "unreadable stamp"
    } else {
        "impossible value"
    }
}

/// Posts readings of a device.
#[post("/api/v1/readings")]
async fn take(state: web::Data<AppState>, request: HttpRequest, payload: web::Payload) -> HttpResponse {
    let address = address_of(&request);
    let token = bearer(&request).to_owned();
    if token.is_empty() {
        return problem(StatusCode::UNAUTHORIZED, "send the device's token as: Authorization: Bearer TOKEN");
    }
    if !state.limits.post(&hash(&token)) {
        return problem(
            StatusCode::TOO_MANY_REQUESTS,
            "too many posts of this token; join readings into fewer posts",
        );
    }
    let from = address.clone();
    let hashed = hash(&token);
    let known = with_store(&state, move |store| store.posting(&hashed, &from)).await;
    let posting = match known {
        Err(_) => return problem(StatusCode::SERVICE_UNAVAILABLE, "nothing was stored; post again"),
        Ok(None) if !state.limits.guess(&address) => {
            return problem(
                StatusCode::TOO_MANY_REQUESTS,
                "too many posts with unknown tokens from this address",
            );
        }
        Ok(None) => {
            let _ = refuse(&state, None, "unknown token", 1, &address).await;
            return problem(
                StatusCode::UNAUTHORIZED,
                "this token is not known; make one on the page of the sensor",
            );
        }
        Ok(Some(posting)) if posting.revoked => {
            let _ = refuse(&state, Some(posting.device_id), "revoked token", 1, &address).await;
            return problem(
                StatusCode::FORBIDDEN,
                "this token was revoked; make a new one on the page of the sensor",
            );
        }
        Ok(Some(posting)) => posting,
    };
    // The body is read only for whom it may come from.
    let mut payload = payload.into_inner();
    let dto = match <web::Json<Post> as actix_web::FromRequest>::from_request(&request, &mut payload).await {
        Ok(dto) => dto.into_inner(),
        Err(error) => {
            let _ = refuse(&state, Some(posting.device_id), "unreadable post", 1, &error.to_string()).await;
            return error.as_response_error().error_response();
        }
    };
    store(&state, &posting, &dto).await
}

/// The clock that stamps are judged by.
#[get("/api/v1/time")]
async fn time(state: web::Data<AppState>) -> HttpResponse {
    match crate::server::state::read(&state, |snapshot| snapshot.clock_ahead()).await {
        Ok(ahead) => HttpResponse::Ok().json(Time { now: crate::server::clock::now(ahead) }),
        Err(_) => problem(StatusCode::SERVICE_UNAVAILABLE, "the clock is not known now; ask again"),
    }
}

async fn refuse(
    state: &web::Data<AppState>,
    device: Option<i64>,
    reason: &str,
    count: i64,
    example: &str,
) -> Result<(), crate::server::error::PageError> {
    // What a device sent may hold anything; the database takes no NUL, and a page shows no control signs.
    let shown = |c: char| if c.is_control() { char::REPLACEMENT_CHARACTER } else { c };
    let (reason, example) = (reason.to_owned(), example.chars().take(200).map(shown).collect::<String>());
    with_store(state, move |store| store.count_refusals(device, &reason, count, &example)).await
}

/// A post whose body is not as described.
fn not_as_described(what: &str) -> HttpResponse {
    problem(StatusCode::BAD_REQUEST, &format!("the body is not as described: {what}"))
}

/// What is said of a post that is taken all the same: a clock that is off, an address that is shared.
async fn warnings(
    state: &web::Data<AppState>,
    posting: &Posting,
    theirs: Option<Timestamp>,
    now: Timestamp,
) -> Vec<String> {
    let mut warnings = Vec::new();
    let device = Some(posting.device_id);
    if let Some(theirs) = theirs.filter(|theirs| now.duration_since(*theirs).abs() > SKEW) {
        let off = format!("{} s", theirs.duration_since(now).as_secs());
        warnings.push(format!("the device's clock is off by {off}"));
        let _ = refuse(state, device, "clock off (readings were taken)", 1, &off).await;
    }
    if let Some(other) = &posting.shares_address_with {
        let _ = refuse(state, device, "shares an address (readings were taken)", 1, other).await;
        warnings.push(format!("\"{other}\" posts from the same address; if that is not meant, one of the two tokens is in the wrong device"));
    }
    warnings
}

/// Counts what was refused by kind, with the last as its example.
async fn count(
    state: &web::Data<AppState>,
    posting: &Posting,
    dto: &Post,
    refused: &[RefusedReading],
) -> Result<(), crate::server::error::PageError> {
    let mut kinds: BTreeMap<&str, (i64, &RefusedReading)> = BTreeMap::new();
    for one in refused {
        let slot = kinds.entry(kind_of(&one.reason)).or_insert((0, one));
        *slot = (slot.0 + 1, one);
    }
    for (kind, (count, one)) in kinds {
        let example = dto.readings.get(one.index);
        let example = example.map_or(String::new(), |r| format!("{} {} at {}", r.channel, r.value, r.at));
        refuse(state, Some(posting.device_id), kind, count, &example).await?;
    }
    Ok(())
}

/// Seconds until a quota is whole again: the next midnight of universal time, by real time.
fn until_midnight_s() -> u64 {
    const DAY_S: i64 = 86_400;
    let now = crate::server::clock::exactly(None).as_second();
    u64::try_from(DAY_S - now.rem_euclid(DAY_S)).unwrap_or(0)
}

/// An answer that says how much of the day's quota is left (draft-ietf-httpapi-ratelimit-headers, the three fields of its
/// versions to 07; from memory).
fn with_quota(mut answer: HttpResponse, left: usize) -> HttpResponse {
    for (name, value) in [
        ("ratelimit-limit", MOST_A_DAY.to_string()),
        ("ratelimit-remaining", left.to_string()),
        ("ratelimit-reset", until_midnight_s().to_string()),
    ] {
        if let Ok(value) = header::HeaderValue::from_str(&value) {
            answer.headers_mut().insert(header::HeaderName::from_static(name), value);
        }
    }
    answer
}

async fn store(state: &web::Data<AppState>, posting: &Posting, dto: &Post) -> HttpResponse {
    let now = crate::server::clock::now(posting.clock_ahead);
    if dto.readings.is_empty() {
        return not_as_described("a post has at least one reading");
    }
    if dto.readings.len() > MOST {
        let sent = dto.readings.len().to_string();
        let _ = refuse(state, Some(posting.device_id), "too many readings", 1, &sent).await;
        return not_as_described(&format!("a post has at most {MOST} readings"));
    }
    let theirs = match dto.device_time.as_ref().map(|text| text.parse::<Timestamp>()) {
        Some(Err(_)) => return not_as_described("device_time is not RFC 3339 with an offset"),
        Some(Ok(theirs)) => Some(theirs),
        None => None,
    };
    let warnings = warnings(state, posting, theirs, now).await;
    let mut good: Vec<ChannelReading> = Vec::with_capacity(dto.readings.len());
    let mut refused = Vec::new();
    for (index, reading) in dto.readings.iter().enumerate() {
        match judge(reading, now) {
            Ok(reading) => good.push(reading),
            Err(reason) => refused.push(RefusedReading { index, reason }),
        }
    }
    if posting.taken_today + good.len() > MOST_A_DAY {
        let left = MOST_A_DAY.saturating_sub(posting.taken_today);
        let _ = refuse(state, Some(posting.device_id), "quota of the day used", 1, &left.to_string()).await;
        let message = format!(
            "the device may bring {MOST_A_DAY} new readings a day, and {left} are left; nothing of this post was stored"
        );
        let mut answer = with_quota(problem(StatusCode::TOO_MANY_REQUESTS, &message), left);
        answer.headers_mut().insert(header::RETRY_AFTER, header::HeaderValue::from(until_midnight_s()));
        return answer;
    }
    let not_stored = || problem(StatusCode::SERVICE_UNAVAILABLE, "nothing was stored; post again");
    if count(state, posting, dto, &refused).await.is_err() {
        return not_stored();
    }
    let sent = good.len();
    let (sensor, device) = (posting.sensor_id, posting.device_id);
    match with_store(state, move |store| store.add_readings(sensor, Some(device), &good)).await {
        Err(_) => not_stored(),
        Ok(taken) => {
            let status = if sent == 0 { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
            let left = MOST_A_DAY.saturating_sub(posting.taken_today + taken);
            let told = Taken { taken, repeated: sent - taken, refused, warnings };
            with_quota(HttpResponse::build(status).json(told), left)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reading(channel: &str, at: &str, value: f64) -> PostedReading {
        PostedReading { channel: channel.into(), at: at.into(), value }
    }

    #[test]
    fn each_reading_is_judged_by_itself() {
        let now: Timestamp = "2026-07-14T18:00:00Z".parse().unwrap();
        assert!(judge(&reading("soil_pct", "2026-07-14T20:05:00+02:00", 31.5), now).is_ok());
        for (channel, at, value, kind) in [
            ("mood", "2026-07-14T18:00:00Z", 1.0, "unknown channel"),
            ("soil_pct", "2026-07-14T19:00:00Z", 31.0, "future stamp"),
            ("soil_pct", "2024-07-14T19:00:00Z", 31.0, "stale stamp"),
            ("soil_pct", "yesterday", 31.0, "unreadable stamp"),
            ("soil_pct", "2026-07-14T18:00:00", 31.0, "unreadable stamp"),
            ("soil_pct", "2026-07-14T18:00:00Z", 131.0, "impossible value"),
            ("contact", "2026-07-14T18:00:00Z", f64::NAN, "impossible value"),
        ] {
            let reason = judge(&reading(channel, at, value), now).unwrap_err();
            assert_eq!(kind_of(&reason), kind, "{reason}");
        }
    }
}
