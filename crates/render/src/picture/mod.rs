//! Pictures. The address plan: one strip for each block of addresses, devices in rows, claims as bars and marks,
//! overlaps hatched and labelled. Kinds differ in shape and pattern as well as in colour, so that it reads in print and
//! for eyes that do not tell the colours apart.

mod block;
mod draw;
mod lanes;
mod letters;
mod paths;
mod strip;

use crate::neutral;
use block::{Block, blocks};
use std::fmt::Write;
use trevlin_audit::tables::addresses::Sheet;
use trevlin_audit::tables::exposure::ExposureSheet;

/// Width of the picture, in pixels.
const WIDTH: f64 = 1280.0;

/// Room around it.
const MARGIN: f64 = 16.0;

/// Right end of everything.
const RIGHT: f64 = WIDTH - MARGIN;

/// Tallest picture that is drawn as PNG, in pixels: a larger one takes much memory and no screen shows it.
const TALLEST_PNG: f64 = 16_000.0;

/// Why a picture could not be made.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum PictureError {
    /// It would be too tall.
    #[error("the picture would be {0} pixels tall; draw an SVG, or a part of it")]
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

/// What is reached as SVG.
#[must_use]
pub fn exposure_svg(sheet: &ExposureSheet) -> String {
    paths::page(sheet).text
}

/// What is reached as PNG, one pixel for one of the SVG.
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
        .ok_or_else(|| failed("no room for it".into()))?;
    resvg::render(&tree, resvg::tiny_skia::Transform::default(), &mut pixels.as_mut());
    pixels.encode_png().map_err(|error| failed(error.to_string()))
}

/// A text from an export, harmless within an SVG.
fn escape(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for letter in neutral(text).chars() {
        match letter {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&#39;"),
            _ => out.push(letter),
        }
    }
    out
}

/// How wide a text is at most, in pixels. Wide letters count more; the estimate lies above what common sans-serif fonts
/// need, so that labels stay apart whichever is used.
fn width(text: &str, size: f64) -> f64 {
    let units: f64 = text
        .chars()
        .map(|letter| match letter {
            'i' | 'j' | 'l' | '.' | ',' | ':' | ';' | '\'' | '|' | '!' | ' ' | '(' | ')' | 'f' | 't'
            | 'r' | '-' | '/' => 0.42,
            'm' | 'w' | 'M' | 'W' | '…' => 1.0,
            'A'..='Z' => 0.75,
            letter if letter.is_ascii() => 0.63,
            _ => 1.0,
        })
        .sum();
    units * size
}

/// A text cut to a width, with an ellipsis where something is missing.
fn cut(text: &str, size: f64, room: f64) -> String {
    if width(text, size) <= room {
        return text.to_owned();
    }
    let mut kept = String::new();
    for letter in text.chars() {
        if width(&kept, size) + 1.8 * size > room {
            break;
        }
        kept.push(letter);
    }
    kept.trim_end().to_owned() + "…"
}

/// The end of an address as it differs within a block: `.200` for the last number of an IPv4 address in a /24.
fn short_end(address: std::net::IpAddr, block: &Block) -> String {
    let mut text = String::new();
    match (address, block.length) {
        (std::net::IpAddr::V4(v4), 24..) => {
            let _ = write!(text, ".{}", v4.octets()[3]);
        }
        (std::net::IpAddr::V4(v4), 16..) => {
            let _ = write!(text, ".{}.{}", v4.octets()[2], v4.octets()[3]);
        }
        (std::net::IpAddr::V6(v6), 64..) => {
            let tail = v6.to_bits() as u64;
            let compact = std::net::Ipv6Addr::from_bits(u128::from(tail)).to_string();
            text.push_str(if compact == "::" { "::0" } else { &compact });
        }
        (any, _) => text = any.to_string(),
    }
    text
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
