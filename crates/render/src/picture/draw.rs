//! Draws the page.

use super::block::Block;
use super::strip::{HALVES, WHOLE, drawn_kinds, strip};
use super::{MARGIN, RIGHT, WIDTH, cut, escape, short_end, width};
pub(super) use crate::picture::shapes::{BAR, Shape, TEXT, hatch, look, mark};
use std::collections::BTreeSet;
use std::fmt::Write;
use trevlin_audit::addresses::{AllocationKind, OverlapKind};
use trevlin_audit::tables::addresses::Sheet;

/// A picture and how tall it is, in pixels.
pub(super) struct Page {
    pub(super) text: String,
    pub(super) height: f64,
}

/// Number of overlaps up to which there are few.
const FEW: usize = 2;
/// Where the words of a footnote begin, behind its title.
const INDENT: f64 = 60.0;
/// Most mistyped pieces that are shown.
const MOST_MISTYPED: usize = 8;

/// Kinds in the order of the legend.
const LEGEND: [AllocationKind; 12] = [
    AllocationKind::Pool,
    AllocationKind::PoolNetwork,
    AllocationKind::FixedAddress,
    AllocationKind::DhcpRange,
    AllocationKind::Reservation,
    AllocationKind::Address,
    AllocationKind::OutsideAddress,
    AllocationKind::NameServer,
    AllocationKind::Translation,
    AllocationKind::Link,
    AllocationKind::Remote,
    AllocationKind::Route,
];

/// The whole page.
pub(super) fn page(sheet: &Sheet, blocks: &[Block]) -> Page {
    let mut body = String::new();
    let mut y = MARGIN + 20.0;
    let faults = sheet.overlaps.iter().filter(|one| one.meaning == OverlapKind::Fault).count();
    let _ = write!(
        body,
        "<text x=\"{MARGIN}\" y=\"{y}\" font-size=\"20\" font-weight=\"bold\">Address plan</text>"
    );
    let told = format!(
        "{} allocations in {} blocks, {faults} overlaps, {} more by design or possible",
        sheet.allocations.len(),
        blocks.len(),
        sheet.overlaps.len() - faults
    );
    let _ = write!(
        body,
        "<text x=\"{}\" y=\"{y}\" font-size=\"12\" fill=\"#444\">{}</text>",
        MARGIN + 168.0,
        escape(&told)
    );
    y += 22.0;
    let (plain, drawn): (Vec<&Block>, Vec<&Block>) = blocks.iter().partition(|block| block.is_plain(sheet));
    y = legend(&mut body, sheet, &drawn, y);
    // Blocks with few overlaps are placed in two columns.
    let (busy, quiet): (Vec<&Block>, Vec<&Block>) =
        drawn.into_iter().partition(|block| block.overlaps.len() > FEW);
    for block in busy {
        y = strip(&mut body, sheet, block, WHOLE, y);
    }
    let mut ends = [y, y];
    for block in quiet {
        let column = usize::from(ends[1] < ends[0]);
        ends[column] = strip(&mut body, sheet, block, HALVES[column], ends[column]);
    }
    y = also(&mut body, sheet, &plain, ends[0].max(ends[1]));
    y = malformed(&mut body, sheet, y);
    if blocks.is_empty() {
        let _ = write!(
            body,
            "<text x=\"{MARGIN}\" y=\"{}\" font-size=\"14\">no address allocation</text>",
            y + 20.0
        );
        y += 40.0;
    }
    let height = (y + MARGIN).ceil();
    let text = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{WIDTH}\" height=\"{height}\" viewBox=\"0 0 {WIDTH} {height}\" \
         font-family=\"Ubuntu, 'DejaVu Sans', sans-serif\">\n<defs>\
         <pattern id=\"twice\" width=\"6\" height=\"6\" patternUnits=\"userSpaceOnUse\"><rect width=\"6\" height=\"6\" fill=\"#fff\"/>\
         <path d=\"M0,6 L6,0 M-1,1 L1,-1 M5,7 L7,5 M0,0 L6,6\" stroke=\"#000\" stroke-width=\"1.1\"/></pattern>\
         <pattern id=\"meant\" width=\"6\" height=\"6\" patternUnits=\"userSpaceOnUse\"><rect width=\"6\" height=\"6\" fill=\"#fff\"/>\
         <path d=\"M0,3 L6,3\" stroke=\"#000\" stroke-width=\"1\"/></pattern>\
         <pattern id=\"slanted\" width=\"5\" height=\"5\" patternUnits=\"userSpaceOnUse\"><rect width=\"5\" height=\"5\" fill=\"#f6e3c8\"/>\
         <path d=\"M0,5 L5,0 M-1,1 L1,-1 M4,6 L6,4\" stroke=\"#b8690f\" stroke-width=\"1.4\"/></pattern>\
         <pattern id=\"dotted\" width=\"4\" height=\"4\" patternUnits=\"userSpaceOnUse\"><rect width=\"4\" height=\"4\" fill=\"#f3e3ec\"/>\
         <circle cx=\"2\" cy=\"2\" r=\"1\" fill=\"#8a1f5c\"/></pattern></defs>\n\
         <rect width=\"100%\" height=\"100%\" fill=\"#ffffff\"/>\n{body}</svg>\n"
    );
    Page { text, height }
}

/// Blocks with the device's own addresses only, as text.
fn also(body: &mut String, sheet: &Sheet, plain: &[&Block], top: f64) -> f64 {
    let mut y = top + if plain.is_empty() { 0.0 } else { 6.0 };
    let words: Vec<String> = plain
        .iter()
        .map(|block| {
            let mut named: Vec<String> = Vec::new();
            for row in block
                .rows
                .iter()
                .map(|row| &sheet.allocations[*row])
                .filter(|row| row.kind != AllocationKind::Network)
            {
                let one = format!("{} {} ({})", short_end(row.first, block), row.kind.words(), row.device);
                if !named.contains(&one) {
                    named.push(one);
                }
            }
            format!("{}: {}", block.net, named.join(", "))
        })
        .collect();
    // As many as fit on a line stand on it.
    let mut line = String::new();
    let mut lines: Vec<String> = Vec::new();
    let room = RIGHT - MARGIN - INDENT;
    for word in words {
        let longer = if line.is_empty() { word.clone() } else { format!("{line};  {word}") };
        if !line.is_empty() && width(&longer, TEXT) > room {
            lines.push(std::mem::replace(&mut line, word));
        } else {
            line = longer;
        }
    }
    lines.extend(Some(line).filter(|line| !line.is_empty()));
    for (number, line) in lines.iter().enumerate() {
        y += 15.0;
        footnote(body, if number == 0 { "also" } else { "" }, line, y);
    }
    y
}

fn footnote(body: &mut String, title: &str, words: &str, y: f64) {
    let _ = write!(
        body,
        "<text x=\"{MARGIN}\" y=\"{y:.1}\" font-size=\"{TEXT}\" font-weight=\"bold\">{title}</text>\
         <text x=\"{}\" y=\"{y:.1}\" font-size=\"{TEXT}\">{}</text>",
        MARGIN + INDENT,
        escape(&cut(words, TEXT, RIGHT - MARGIN - INDENT))
    );
}

/// Malformed ranges have no position, so they are listed below the picture.
fn malformed(body: &mut String, sheet: &Sheet, top: f64) -> f64 {
    let mut y = top + if sheet.malformed.is_empty() { 0.0 } else { 6.0 };
    for one in sheet.malformed.iter().take(MOST_MISTYPED) {
        y += 15.0;
        let text = format!("{} on {}: {} ({}:{})", one.owner, one.device, one.what, one.path, one.line);
        footnote(body, "malformed", &text, y);
    }
    y
}

/// The kinds that are drawn.
fn legend(body: &mut String, sheet: &Sheet, drawn: &[&Block], top: f64) -> f64 {
    let kinds: BTreeSet<AllocationKind> = drawn.iter().flat_map(|block| drawn_kinds(sheet, block)).collect();
    let (mut x, mut y) = (MARGIN, top);
    let mut entry = |width_of: f64,
                     draw: &mut dyn FnMut(&mut String, f64, f64),
                     words: &str,
                     body: &mut String| {
        if x + width_of > RIGHT {
            x = MARGIN;
            y += 18.0;
        }
        draw(body, x, y);
        let _ =
            write!(body, "<text x=\"{}\" y=\"{}\" font-size=\"{TEXT}\">{words}</text>", x + 32.0, y + 4.0);
        x += width_of;
    };
    for kind in LEGEND {
        if kinds.contains(&kind) {
            let words = kind.words();
            entry(
                width(words, TEXT) + 40.0,
                &mut |body, x, y| mark(body, &look(kind), x, x + 26.0, y),
                words,
                body,
            );
        }
    }
    for (pattern, words) in [("twice", "allocated twice"), ("meant", "shared by design")] {
        let meaning = if pattern == "twice" { OverlapKind::Fault } else { OverlapKind::Meant };
        if sheet.overlaps.iter().any(|one| one.meaning == meaning) {
            entry(
                width(words, TEXT) + 40.0,
                &mut |body, x, y| hatch(body, pattern, x, x + 26.0, y - BAR / 2.0, BAR),
                words,
                body,
            );
        }
    }
    y + 16.0
}
