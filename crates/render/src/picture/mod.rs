//! Pictures. The address plan: one strip for each block of addresses, devices in rows, claims as bars and marks,
//! overlaps hatched and labelled. Kinds differ in shape and pattern as well as in colour, so that it reads in print and
//! for eyes that do not tell the colours apart.

mod block;
mod draw;
mod lanes;
mod letters;
mod paths;
mod shapes;
mod strip;
mod theme;

use block::blocks;
use theme::{MARGIN, RIGHT, WIDTH, cut, escape, short_end, width};
use trevlin_audit::tables::addresses::Sheet;
use trevlin_audit::tables::exposure::ExposureSheet;

/// Tallest picture that is drawn as PNG, in pixels: a larger one takes much memory and no screen shows it.
const TALLEST_PNG: f64 = 16_000.0;

/// Why a picture could not be made.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum PictureError {
    /// It would be too tall.
    #[error("the picture would be {0} pixels high; draw an SVG, or a part of it")]
    TooTall(u32),
    /// The drawing failed.
    #[error("the picture could not be drawn: {0}")]
    Drawing(String),
}

/// The plan as SVG.
#[must_use]
pub fn addresses_svg(sheet: &Sheet) -> String {
    draw::page(sheet, &blocks(sheet)).text
}

/// The plan as PNG, one pixel for one of the SVG.
///
/// # Errors
/// When it would be too tall, or drawing fails.
pub fn addresses_png(sheet: &Sheet) -> Result<Vec<u8>, PictureError> {
    png(&draw::page(sheet, &blocks(sheet)))
}

/// Exposure as SVG.
#[must_use]
pub fn exposure_svg(sheet: &ExposureSheet) -> String {
    paths::page(sheet).text
}

/// Exposure as PNG, one pixel for each unit of the SVG.
///
/// # Errors
/// When it would be too tall, or drawing fails.
pub fn exposure_png(sheet: &ExposureSheet) -> Result<Vec<u8>, PictureError> {
    png(&paths::page(sheet))
}

fn png(page: &draw::Page) -> Result<Vec<u8>, PictureError> {
    if page.height > TALLEST_PNG {
        return Err(PictureError::TooTall(page.height as u32));
    }
    let failed = |text: String| PictureError::Drawing(text);
    let drawn = letters::outlined(&page.text).map_err(failed)?;
    let tree = resvg::usvg::Tree::from_str(&drawn, &resvg::usvg::Options::default())
        .map_err(|error| failed(error.to_string()))?;
    let mut pixels = resvg::tiny_skia::Pixmap::new(WIDTH as u32, page.height as u32)
        .ok_or_else(|| failed("no space for it".into()))?;
    resvg::render(&tree, resvg::tiny_skia::Transform::default(), &mut pixels.as_mut());
    pixels.encode_png().map_err(|error| failed(error.to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_harmless_and_fit() {
        assert_eq!(escape("a<b>&\"'\u{1b}"), "a&lt;b&gt;&amp;&quot;&#39;\\u{1b}");
        let long = "a caller with a name that goes on for very long indeed";
        for room in [20.0, 60.0, 120.0, 900.0] {
            assert!(width(&cut(long, 11.0, room), 11.0) <= room.max(20.0), "{room}");
        }
        assert_eq!(cut("short", 11.0, 400.0), "short");
    }
}
