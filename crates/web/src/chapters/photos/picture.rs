//! What is kept of any phone's photograph: smaller, turned right, without place and device.

use image::{DynamicImage, ImageDecoder, ImageReader, Limits};
use std::io::Cursor;
use std::sync::Mutex;

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

/// A picture that is kept.
pub(super) struct Kept {
    pub jpeg: Vec<u8>,
    pub width: i32,
    pub height: i32,
}

/// Makes a picture small, turns it as its camera says, and leaves everything else out.
pub(super) fn smaller(bytes: &[u8]) -> Result<Kept, String> {
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
    Ok(Kept { jpeg, width: size(picture.width()), height: size(picture.height()) })
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
        assert_eq!((kept.width, kept.height), (800, 1600), "turned, and at most {LONGEST} long");
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
