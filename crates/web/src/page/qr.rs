//! Codes that a telephone reads.

use crate::server::error::PageError;
use qrcode::QrCode;
use qrcode::render::svg;

/// A QR code as SVG, drawn with attributes only.
pub(crate) fn qr(text: &str) -> Result<String, PageError> {
    let code = QrCode::new(text)
        .map_err(|e| PageError::BadRequest(format!("This address is too long for a code: {e}.")))?;
    let svg = code.render::<svg::Color<'_>>().min_dimensions(116, 116).quiet_zone(true).build();
    // The declaration belongs to a file, not into a page.
    Ok(svg.split_once("?>").map_or(svg.clone(), |(_, body)| body.to_owned()))
}
