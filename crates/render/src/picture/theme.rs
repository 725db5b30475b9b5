//! Sizes of a picture, and text that fits into it.

use crate::picture::block::Block;
use crate::sanitize;
use std::fmt::Write;

/// Width of the picture, in pixels.
pub(crate) const WIDTH: f64 = 1280.0;

/// Room around it.
pub(crate) const MARGIN: f64 = 16.0;

/// Right end of everything.
pub(crate) const RIGHT: f64 = WIDTH - MARGIN;

/// A text from an export, harmless within an SVG.
pub(crate) fn escape(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for letter in sanitize(text).chars() {
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

/// Upper bound of the width of a text, in pixels. Wide letters count more; the estimate exceeds that of common sans-serif fonts, so that
/// labels stay apart with any of them.
pub(crate) fn width(text: &str, size: f64) -> f64 {
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
pub(crate) fn cut(text: &str, size: f64, room: f64) -> String {
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
pub(crate) fn short_end(address: std::net::IpAddr, block: &Block) -> String {
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
