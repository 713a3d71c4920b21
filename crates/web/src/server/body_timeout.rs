//! Bodies that come slowly: one that stops, or trickles, is cut, so that it holds no worker's memory for ever.

use actix_web::HttpMessage;
use actix_web::dev::{Payload, ServiceRequest};
use actix_web::error::PayloadError;
use actix_web::http::header::CONTENT_TYPE;
use futures_util::StreamExt;
use futures_util::stream::LocalBoxStream;
use std::time::Duration;
use tokio::time::{Instant, timeout};

/// Longest silence within a body.
const SILENCE: Duration = Duration::from_secs(15);
/// Longest that a form or a post of a device may take: some kilobytes.
const FORM: Duration = Duration::from_secs(60);
/// Longest that a file may take.
const FILE: Duration = Duration::from_secs(15 * 60);

/// Cuts the body of a request that comes too slowly.
pub(crate) fn bound(request: &mut ServiceRequest) {
    let file =
        request.headers().get(CONTENT_TYPE).is_some_and(|kind| kind.as_bytes().starts_with(b"multipart/"));
    let until = Instant::now() + if file { FILE } else { FORM };
    let payload = request.take_payload();
    let chunks: LocalBoxStream<'static, _> = cut(payload, SILENCE, until);
    request.set_payload(Payload::Stream { payload: chunks });
}

fn cut(
    payload: Payload,
    silence: Duration,
    until: Instant,
) -> LocalBoxStream<'static, Result<actix_web::web::Bytes, PayloadError>> {
    let next = move |payload: Option<Payload>| async move {
        let mut payload = payload?;
        let left = until.saturating_duration_since(Instant::now()).min(silence);
        match timeout(left, payload.next()).await {
            Ok(chunk) => chunk.map(|chunk| (chunk, Some(payload))),
            Err(_) => {
                let late = std::io::Error::new(std::io::ErrorKind::TimedOut, "the rest did not come in time");
                Some((Err(PayloadError::Io(late)), None))
            }
        }
    };
    // A reader of forms with files asks again after the end.
    futures_util::stream::unfold(Some(payload), next).fuse().boxed_local()
}

#[cfg(test)]
mod tests {
    use super::*;
    use actix_web::web::Bytes;
    use futures_util::stream;

    fn payload(chunks: Vec<(u64, &'static str)>) -> Payload {
        let chunks = stream::iter(chunks).then(|(wait, text)| async move {
            tokio::time::sleep(Duration::from_millis(wait)).await;
            Ok(Bytes::from_static(text.as_bytes()))
        });
        Payload::Stream { payload: chunks.boxed_local() }
    }

    async fn read(payload: Payload, silence: u64, whole: u64) -> (String, bool) {
        let until = Instant::now() + Duration::from_millis(whole);
        let mut all = cut(payload, Duration::from_millis(silence), until);
        let (mut text, mut late) = (String::new(), false);
        while let Some(chunk) = all.next().await {
            match chunk {
                Ok(bytes) => text.push_str(std::str::from_utf8(&bytes).unwrap()),
                Err(_) => late = true,
            }
        }
        assert!(all.next().await.is_none(), "it stays at its end");
        (text, late)
    }

    #[tokio::test(start_paused = true)]
    async fn a_body_that_stops_or_trickles_is_cut_and_one_that_comes_is_whole() {
        let steady = || payload(vec![(40, "a"), (40, "b"), (40, "c")]);
        assert_eq!(read(steady(), 100, 1000).await, ("abc".into(), false));
        assert_eq!(read(payload(vec![(10, "a"), (5000, "b")]), 100, 1000).await, ("a".into(), true));
        assert_eq!(
            read(steady(), 100, 90).await,
            ("ab".into(), true),
            "never silent for long, and yet too slow"
        );
        assert_eq!(read(payload(Vec::new()), 100, 1000).await, (String::new(), false));
    }
}
