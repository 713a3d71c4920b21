//! Two versions of one form, chosen line by line.

use crate::page::forms::Merge;
use crate::page::frame::Frame;
use askama::Template;

#[derive(Template)]
#[template(path = "page/merge.html")]
pub(crate) struct MergePage {
    pub frame: Frame,
    pub what: String,
    pub action: String,
    pub back: String,
    pub merge: Merge,
}
