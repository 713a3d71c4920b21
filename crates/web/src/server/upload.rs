//! Files sent from a page: read whole up to a limit, and refused with a readable page above it.

use crate::server::error::PageError;
use crate::server::session::check_csrf;
use actix_multipart::Multipart;
use actix_session::Session;
use futures_util::TryStreamExt;
use tokio::sync::{Semaphore, SemaphorePermit};
use upland_formats::PathProblem;

/// A refused upload is still read up to here, so that the browser gets the answer instead of a
/// broken connection.
const DRAIN_LIMIT: usize = 1024 * 1024 * 1024;

/// A file from a form.
pub(crate) struct Upload {
    pub file_name: String,
    pub bytes: Vec<u8>,
    /// The file is larger than the limit; its bytes are not kept.
    pub too_large: bool,
    limit: usize,
    /// Held as long as the file is worked on: what is read from it takes several times its room.
    _turn: Option<SemaphorePermit<'static>>,
}

impl Upload {
    /// What a reader of a small JSON file makes of it; a file beyond the limit is refused with what such a file
    /// usually has.
    pub fn read_with<T>(
        &self,
        usual: &str,
        read: impl FnOnce(&[u8]) -> Result<T, Vec<PathProblem>>,
    ) -> Result<T, Vec<PathProblem>> {
        if !self.too_large {
            return read(&self.bytes);
        }
        let message = format!("The file is larger than {} kB; {usual}.", self.limit / 1024);
        Err(vec![PathProblem { path: String::new(), message }])
    }
}

/// Files that are received, read or drawn at the same time, over all sites.
const RECEIVED_AT_ONCE: usize = 3;
static RECEIVING: Semaphore = Semaphore::const_new(RECEIVED_AT_ONCE);

/// A turn to receive a file or to open a kept one, photographs too; others wait with theirs unread.
pub(crate) async fn turn() -> Result<SemaphorePermit<'static>, PageError> {
    // The semaphore is never closed, so a permit always comes.
    RECEIVING.acquire().await.map_err(|closed| PageError::Session(closed.to_string()))
}

/// Reads the token and the file of a multipart form. The token comes first in our forms; a file
/// before it is refused.
pub(crate) async fn read(
    session: &Session,
    mut payload: Multipart,
    limit: usize,
) -> Result<Upload, PageError> {
    let turn = turn().await?;
    let bad = |error: actix_multipart::MultipartError| {
        PageError::BadRequest(format!("The file did not arrive whole: {error}. Send it again."))
    };
    let mut token_checked = false;
    let mut upload = None;
    while let Some(mut field) = payload.try_next().await.map_err(bad)? {
        let name = field.name().unwrap_or_default().to_owned();
        if name == "csrf" {
            let mut token = Vec::new();
            while let Some(chunk) = field.try_next().await.map_err(bad)? {
                token.extend_from_slice(&chunk);
                if token.len() > 256 {
                    return Err(PageError::Csrf);
                }
            }
            check_csrf(session, &String::from_utf8_lossy(&token))?;
            token_checked = true;
        } else if name == "file" {
            if !token_checked {
                return Err(PageError::Csrf);
            }
            let file_name = field
                .content_disposition()
                .and_then(|d| d.get_filename())
                .map(clean_name)
                .unwrap_or_default();
            let (mut bytes, mut total) = (Vec::new(), 0);
            while let Some(chunk) = field.try_next().await.map_err(bad)? {
                total += chunk.len();
                if total > DRAIN_LIMIT {
                    return Err(PageError::BadRequest("The file is far too large.".into()));
                }
                if total > limit {
                    bytes = Vec::new();
                } else {
                    bytes.extend_from_slice(&chunk);
                }
            }
            upload = Some(Upload { file_name, bytes, too_large: total > limit, limit, _turn: None });
        }
    }
    if !token_checked {
        return Err(PageError::Csrf);
    }
    let upload = upload.map(|upload| Upload { _turn: Some(turn), ..upload });
    upload.ok_or_else(|| PageError::BadRequest("No file was chosen. Go back and choose one.".into()))
}

/// The last part of a name, without control characters and not too long.
fn clean_name(name: &str) -> String {
    let last = name.rsplit(['/', '\\']).next().unwrap_or_default();
    last.chars().filter(|c| !c.is_control()).take(120).collect()
}

#[cfg(test)]
mod tests {
    #[test]
    fn a_file_beyond_its_limit_is_not_read() {
        let upload = |too_large| super::Upload {
            file_name: "card.json".into(),
            bytes: vec![1, 2, 3],
            too_large,
            limit: 64 * 1024,
            _turn: None,
        };
        assert_eq!(
            upload(false).read_with("a controller type has about one", |bytes| Ok(bytes.len())),
            Ok(3)
        );
        let refused =
            upload(true).read_with("a controller type has about one", |bytes| Ok(bytes.len())).unwrap_err();
        assert_eq!(refused[0].message, "The file is larger than 64 kB; a controller type has about one.");
    }

    #[test]
    fn names_lose_folders_and_control_characters() {
        assert_eq!(super::clean_name("C:\\weather\\a.csv"), "a.csv");
        assert_eq!(super::clean_name("../../etc/passwd"), "passwd");
        assert_eq!(super::clean_name("a\u{0}b.csv"), "ab.csv");
    }
}
