//! Pages that look the same to everybody: drawn once for their facts, and framed for each who looks.

use crate::page::frame::Frame;
use crate::server::error::{PageError, page};
use actix_web::HttpResponse;
use askama::Template;
use std::sync::Arc;

/// The parts of a page that do not depend on who looks.
#[derive(Default)]
pub(crate) struct Drawn {
    pub ribbon: String,
    pub content: String,
}

#[derive(Template)]
#[template(path = "page/drawn.html")]
struct DrawnPage {
    frame: Frame,
    drawn: Arc<Drawn>,
}

/// A page around what was drawn.
pub(crate) fn framed(frame: Frame, drawn: Arc<Drawn>) -> Result<HttpResponse, PageError> {
    page(&DrawnPage { frame, drawn })
}
