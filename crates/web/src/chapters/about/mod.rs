//! What this program is: its version, licence and parts; and the glossary.

use crate::page::frame::Frame;
use crate::page::glossary::{TERMS, Term};
use crate::server::error::{PageError, page};
use crate::server::session::SignedIn;
use crate::server::state::AppState;
use actix_web::{HttpResponse, get, web};
use askama::Template;

pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config.service(about).service(glossary);
}

/// What ships with the program: name, licence, and the file of its text.
const PARTS: [(&str, &str, &str); 6] = [
    ("Alpine.js", "MIT", "alpine.txt"),
    ("Atkinson Hyperlegible Next", "SIL Open Font License 1.1", "atkinson-hyperlegible-next.txt"),
    ("Bulma", "MIT", "bulma.txt"),
    ("Fraunces", "SIL Open Font License 1.1", "fraunces.txt"),
    ("uPlot", "MIT", "uplot.txt"),
    ("Time zone boundaries of tzf, from OpenStreetMap", "MIT, data ODbL 1.0", ""),
];

#[derive(Template)]
#[template(path = "chapters/about/about.html")]
struct AboutPage {
    frame: Frame,
    version: &'static str,
    source: Option<String>,
    parts: [(&'static str, &'static str, &'static str); 6],
}

#[derive(Template)]
#[template(path = "chapters/about/glossary.html")]
struct GlossaryPage {
    frame: Frame,
    terms: Vec<&'static Term>,
}

#[get("/about")]
async fn about(state: web::Data<AppState>, who: SignedIn) -> Result<HttpResponse, PageError> {
    page(&AboutPage {
        frame: Frame::new(&who, "About")?,
        version: env!("CARGO_PKG_VERSION"),
        source: state.configuration.source_url.clone(),
        parts: PARTS,
    })
}

#[get("/glossary")]
async fn glossary(who: SignedIn) -> Result<HttpResponse, PageError> {
    let mut terms: Vec<&Term> = TERMS.iter().collect();
    terms.sort_by_key(|term| term.name.to_lowercase());
    page(&GlossaryPage { frame: Frame::new(&who, "Glossary")?, terms })
}
