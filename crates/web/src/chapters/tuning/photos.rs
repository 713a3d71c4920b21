//! Photographs: any phone's, made smaller, turned right, without place and device, kept here or in a folder.

use super::enter::client_key;
use crate::server::error::PageError;
use crate::server::request_locale::off_loop;
use crate::server::session::check_csrf;
use crate::site::context::{AtSite, EditorAt};
use actix_multipart::Multipart;
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use futures_util::TryStreamExt;
use image::{DynamicImage, ImageDecoder, ImageReader, Limits};
use serde_json::json;
use std::io::Cursor;
use std::path::PathBuf;
use std::sync::Mutex;
use upland_store::visits::{NewPhoto, Picture};

/// Largest photograph that is taken, bytes.
pub(super) const MAX_BYTES: usize = 60 * 1024 * 1024;
/// Longest side that is kept, pixels.
const LONGEST: u32 = 1600;
/// Longest side that is read, pixels.
const MOST_PIXELS: u32 = 20_000;
/// Memory that a picture may take when it is opened, bytes: 33 million pixels of a photograph. Looked at before it is
/// opened, by what its head declares; opening it takes at most twice as much.
const MOST_OPENED: u64 = 100 * 1024 * 1024;
/// Memory for opening one picture, bytes.
const MOST_MEMORY: u64 = 2 * MOST_OPENED;
/// Quality of what is kept.
const QUALITY: u8 = 82;

/// One picture is read at a time: each may take much memory.
static READING: Mutex<()> = Mutex::new(());

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(take).service(show).service(undo).service(redo);
}

/// A picture that is kept.
struct Kept {
    jpeg: Vec<u8>,
    size: (i32, i32),
}

/// Makes a picture small, turns it as its camera says, and leaves everything else out.
fn smaller(bytes: &[u8]) -> Result<Kept, String> {
    let _one = READING.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    if bytes.get(4..8) == Some(b"ftyp") {
        return Err("This phone keeps its photographs in a format that only it reads. Set its camera to the most compatible \
                    format (JPEG) and take it again."
            .into());
    }
    let none = || "This is no photograph that can be read (JPEG, PNG or WebP). Take it again.".to_owned();
    let mut reader = ImageReader::new(Cursor::new(bytes)).with_guessed_format().map_err(|_| none())?;
    let mut limits = Limits::default();
    (limits.max_image_width, limits.max_image_height) = (Some(MOST_PIXELS), Some(MOST_PIXELS));
    limits.max_alloc = Some(MOST_MEMORY);
    reader.limits(limits);
    let mut decoder = reader.into_decoder().map_err(|_| none())?;
    let (width, height) = decoder.dimensions();
    if decoder.total_bytes() > MOST_OPENED {
        let millions = u64::from(width) * u64::from(height) / 1_000_000;
        return Err(format!(
            "This picture has {width} by {height} pixels, {millions} million: too many to open here. Set the camera to 12 million \
             pixels, or send a smaller copy."
        ));
    }
    let turned = decoder.orientation().ok();
    let mut picture = DynamicImage::from_decoder(decoder).map_err(|_| none())?;
    if picture.width().max(picture.height()) > LONGEST {
        // Averages whole blocks of pixels: no second picture of full size is held.
        picture = picture.thumbnail(LONGEST, LONGEST);
    }
    if let Some(turned) = turned {
        picture.apply_orientation(turned);
    }
    let mut jpeg = Vec::new();
    let encoder = image::codecs::jpeg::JpegEncoder::new_with_quality(&mut jpeg, QUALITY);
    picture.to_rgb8().write_with_encoder(encoder).map_err(|_| none())?;
    let size = |n: u32| i32::try_from(n).unwrap_or(i32::MAX);
    Ok(Kept { jpeg, size: (size(picture.width()), size(picture.height())) })
}

/// The folder that photographs are kept in, when one is set.
fn folder() -> Option<PathBuf> {
    std::env::var_os("UPLAND_PHOTO_FOLDER").filter(|f| !f.is_empty()).map(PathBuf::from)
}

/// What a form of a photograph carries.
#[derive(Default)]
struct Sent {
    key: String,
    zone: String,
    bytes: Vec<u8>,
    too_large: bool,
}

async fn sent(here: &AtSite, mut payload: Multipart) -> Result<Sent, PageError> {
    let bad = |error: actix_multipart::MultipartError| {
        PageError::BadRequest(format!(
            "The photograph did not arrive whole: {error}. It is sent again by itself."
        ))
    };
    let (mut sent, mut checked) = (Sent::default(), false);
    while let Some(mut field) = payload.try_next().await.map_err(bad)? {
        let name = field.name().unwrap_or_default().to_owned();
        if name == "file" && !checked {
            return Err(PageError::Csrf);
        }
        let most = if name == "file" { MAX_BYTES } else { 256 };
        let mut bytes = Vec::new();
        let mut total = 0;
        while let Some(chunk) = field.try_next().await.map_err(bad)? {
            total += chunk.len();
            if total <= most {
                bytes.extend_from_slice(&chunk);
            } else if name != "file" {
                return Err(PageError::BadRequest("A field of the photograph is too long.".into()));
            } else if total > 10 * MAX_BYTES {
                return Err(PageError::BadRequest("The photograph is far too large.".into()));
            }
        }
        let text = || String::from_utf8_lossy(&bytes).trim().to_owned();
        match name.as_str() {
            "csrf" => {
                check_csrf(&here.who.session, &text())?;
                checked = true;
            }
            "key" => sent.key = text(),
            "zone" => sent.zone = text(),
            "file" => {
                sent.too_large = total > MAX_BYTES;
                sent.bytes = if sent.too_large { Vec::new() } else { bytes };
            }
            _ => {}
        }
    }
    if checked { Ok(sent) } else { Err(PageError::Csrf) }
}

#[post("/sites/{id}/visit/photos")]
async fn take(
    EditorAt(here): EditorAt,
    request: HttpRequest,
    payload: Multipart,
) -> Result<HttpResponse, PageError> {
    let turn = crate::server::upload::turn().await?;
    let sent = sent(&here, payload).await?;
    let key = client_key(&sent.key)?;
    let zone_id = sent.zone.parse::<i64>().ok().filter(|id| here.records.zones.iter().any(|z| z.id == *id));
    let answer = |text: String, kept: bool| {
        if request.headers().contains_key("x-part") {
            let status = if kept { 200 } else { 422 };
            let status = actix_web::http::StatusCode::from_u16(status).unwrap_or_default();
            return Ok(HttpResponse::build(status).json(json!({ "text": text, "more": [], "kept": kept })));
        }
        crate::server::session::flash(&here.who.session, text, None)?;
        let root = crate::server::address::site_root(here.id());
        Ok(crate::server::error::see_other(&format!("{root}/visit")))
    };
    if sent.too_large {
        return answer(format!("The photograph is larger than {} MB.", MAX_BYTES / 1024 / 1024), false);
    }
    if sent.bytes.is_empty() {
        return answer("No photograph was chosen.".into(), false);
    }
    let kept = match off_loop(move || smaller(&sent.bytes)).await? {
        Ok(kept) => kept,
        Err(text) => return answer(text, false),
    };
    drop(turn);
    let mut unused = None;
    let picture = match folder() {
        None => Picture::Jpeg(kept.jpeg),
        Some(folder) => {
            let name = format!("{}.jpg", crate::server::session::random_hex());
            let path = folder.join(&name);
            unused = Some(path.clone());
            let written = off_loop(move || {
                std::fs::create_dir_all(&folder).and_then(|()| std::fs::write(path, kept.jpeg))
            });
            written.await?.map_err(|error| {
                PageError::BadRequest(format!("The photograph could not be kept: {error}."))
            })?;
            Picture::File(name)
        }
    };
    let (day, size) = (here.today(), kept.size);
    let new = here
        .change(move |change| {
            let visit = change.visit_on(day)?;
            change.keep_photo(visit, NewPhoto { client_key: &key, zone_id, picture, size })
        })
        .await;
    // A file that no row names would stay for ever.
    if let Some(path) = unused.filter(|_| !matches!(new, Ok(Some(_)))) {
        off_loop(move || std::fs::remove_file(path)).await?.ok();
    }
    let new = new?;
    answer(if new.is_some() { "Photograph kept.".into() } else { "It was here already.".into() }, true)
}

#[get("/sites/{id}/photos/{photo}.jpg")]
async fn show(here: AtSite, path: web::Path<(i64, i64)>) -> Result<HttpResponse, PageError> {
    let of_site = here.site_key();
    let id = path.1;
    let bytes =
        match here.read(move |snapshot| snapshot.photo(of_site, id)).await?.ok_or(PageError::NotFound)? {
            Picture::Jpeg(bytes) => bytes,
            Picture::File(name) => {
                let path = folder().ok_or(PageError::NotFound)?.join(name);
                off_loop(move || std::fs::read(path)).await?.map_err(|_| PageError::NotFound)?
            }
        };
    Ok(HttpResponse::Ok()
        .content_type("image/jpeg")
        .insert_header(("cache-control", "private, max-age=86400, immutable"))
        .body(bytes))
}

fn photo(here: &AtSite, visit: i64, id: i64) -> crate::page::take_back::TakeBack {
    let list = format!("{}/visits/{visit}", crate::server::address::site_root(here.id()));
    crate::page::take_back::TakeBack {
        subject: upland_store::Subject::VisitPhoto,
        under: visit,
        id,
        address: format!("{list}/photos/{id}"),
        list,
        said: ("The photograph is taken back.", "The photograph is restored."),
    }
}

#[post("/sites/{id}/visits/{visit}/photos/{photo}/undo")]
async fn undo(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64, i64)>,
    _fields: crate::server::session::Fields,
) -> Result<HttpResponse, PageError> {
    photo(&here, path.1, path.2).set(&here, true).await
}

#[post("/sites/{id}/visits/{visit}/photos/{photo}/redo")]
async fn redo(
    EditorAt(here): EditorAt,
    path: web::Path<(i64, i64, i64)>,
    _fields: crate::server::session::Fields,
) -> Result<HttpResponse, PageError> {
    photo(&here, path.1, path.2).set(&here, false).await
}

#[cfg(test)]
mod tests {
    use super::*;
    use image::{ImageBuffer, Rgb};

    fn jpeg(width: u32, height: u32) -> Vec<u8> {
        let mut picture: ImageBuffer<Rgb<u8>, Vec<u8>> = ImageBuffer::new(width, height);
        // The upper left corner is red.
        for (x, y, pixel) in picture.enumerate_pixels_mut() {
            *pixel = if x < width / 2 && y < height / 2 { Rgb([220, 20, 20]) } else { Rgb([20, 20, 220]) };
        }
        let mut out = Vec::new();
        picture.write_to(&mut Cursor::new(&mut out), image::ImageFormat::Jpeg).unwrap();
        out
    }

    /// The same with a camera's block: orientation 6 (turn it clockwise), and a made-up place.
    fn with_camera_block(jpeg: &[u8]) -> Vec<u8> {
        let mut tiff: Vec<u8> = b"II*\0\x08\0\0\0\x02\0".to_vec();
        // Orientation, SHORT, 1, value 6; then a text that must not survive.
        tiff.extend([0x12, 0x01, 3, 0, 1, 0, 0, 0, 6, 0, 0, 0]);
        tiff.extend([0x0e, 0x01, 2, 0, 20, 0, 0, 0, 38, 0, 0, 0]);
        tiff.extend([0, 0, 0, 0]);
        tiff.extend(b"GPS 51.4778 -0.0014\0");
        let mut block = b"Exif\0\0".to_vec();
        block.extend(&tiff);
        let mut out = jpeg[..2].to_vec();
        out.extend([0xff, 0xe1]);
        out.extend(u16::try_from(block.len() + 2).unwrap().to_be_bytes());
        out.extend(&block);
        out.extend(&jpeg[2..]);
        out
    }

    #[test]
    fn a_photograph_is_made_smaller_turned_right_and_loses_its_place() {
        let sent = with_camera_block(&jpeg(2400, 1200));
        assert!(sent.windows(3).any(|w| w == b"GPS"));
        let kept = smaller(&sent).unwrap();
        assert_eq!(kept.size, (800, 1600), "turned, and at most {LONGEST} long");
        assert!(!kept.jpeg.windows(3).any(|w| w == b"GPS") && !kept.jpeg.windows(4).any(|w| w == b"Exif"));
        let picture = image::load_from_memory(&kept.jpeg).unwrap().to_rgb8();
        let (right, left) = (picture.get_pixel(700, 100), picture.get_pixel(100, 100));
        assert!(right[0] > 150 && left[2] > 150, "the red corner is at the upper right now");
    }

    #[test]
    fn sentence_6_a_picture_is_judged_by_what_it_declares_before_it_is_opened() {
        // A PNG of 20,000 by 20,000 pixels in a few bytes: its head alone says so.
        let mut png = b"\x89PNG\r\n\x1a\n".to_vec();
        let mut head = b"IHDR".to_vec();
        head.extend([20_000_u32.to_be_bytes(), 20_000_u32.to_be_bytes()].concat());
        head.extend([8, 2, 0, 0, 0]);
        png.extend(13_u32.to_be_bytes());
        png.extend(&head);
        png.extend(crc(&head).to_be_bytes());
        png.extend(0_u32.to_be_bytes());
        png.extend(b"IDAT");
        png.extend(crc(b"IDAT").to_be_bytes());
        let told = smaller(&png).err().unwrap();
        assert!(told.contains("400 million") && told.contains("smaller copy"), "{told}");
        assert!(smaller(&jpeg(6000, 5000)).is_ok(), "30 million pixels are a photograph");
    }

    /// The checksum of a part of a PNG.
    fn crc(bytes: &[u8]) -> u32 {
        let step = |crc: u32, byte: &u8| {
            (0..8)
                .fold(crc ^ u32::from(*byte), |c, _| if c & 1 == 1 { 0xedb8_8320 ^ (c >> 1) } else { c >> 1 })
        };
        !bytes.iter().fold(!0, step)
    }

    #[test]
    fn what_is_no_photograph_says_so() {
        for sent in [&b"not a picture"[..], b"", b"\xff\xd8\xff", &jpeg(20, 20)[..60]] {
            assert!(smaller(sent).err().unwrap().contains("no photograph"));
        }
        let heic = b"\0\0\0\x18ftypheic\0\0\0\0";
        assert!(smaller(heic).err().unwrap().contains("most compatible"));
    }
}
