//! One block of addresses: heading, axis, a row for each device, overlaps below.

use super::block::{Block, bits};
use super::draw::{BAR, Shape, TEXT, hatch, look, mark};
use super::lanes::{Extent, place};
use super::{MARGIN, RIGHT, WIDTH, cut, escape, short_end, width};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;
use std::net::IpAddr;
use trevlin_audit::addresses::{AllocationKind, OverlapKind};
use trevlin_audit::tables::addresses::{Row, Sheet};

/// Room for the names of devices.
const NAMES: f64 = 124.0;
/// Height of one lane.
const LANE: f64 = 15.5;
/// Most lanes of one device, and of overlaps, that one strip shows.
const MOST_LANES: usize = 24;
/// Size of small words: ticks and interfaces.
const SMALL: f64 = 9.5;

/// From where to where a strip goes, names of devices included.
#[derive(Clone, Copy)]
pub(super) struct Frame {
    from: f64,
    to: f64,
}

/// The whole width.
pub(super) const WHOLE: Frame = Frame { from: MARGIN, to: RIGHT };

/// Two side by side.
pub(super) const HALVES: [Frame; 2] =
    [Frame { from: MARGIN, to: WIDTH / 2.0 - 10.0 }, Frame { from: WIDTH / 2.0 + 10.0, to: RIGHT }];

impl Frame {
    /// Where the addresses begin.
    fn left(self) -> f64 {
        self.from + NAMES
    }

    /// How wide all addresses of a block are.
    fn span(self) -> f64 {
        self.to - self.left()
    }
}

/// A block with the frame it is drawn in.
#[derive(Clone, Copy)]
struct Place<'a> {
    block: &'a Block,
    frame: Frame,
}

impl Place<'_> {
    fn x_of(self, address: IpAddr) -> f64 {
        self.frame.left() + self.block.position(address) * self.frame.span()
    }

    /// Right end of a range: the beginning of the address behind it.
    fn x_behind(self, address: IpAddr) -> f64 {
        let size = bits(self.block.net.broadcast()) - bits(self.block.net.network());
        (self.x_of(address) + self.frame.span() / (size as f64 + 1.0)).min(self.frame.to)
    }

    /// A range in few letters.
    fn words(self, first: IpAddr, last: IpAddr) -> String {
        let end = |address| short_end(address, self.block);
        if first == last {
            end(first)
        } else {
            format!("{}–{}", end(first), end(last).trim_start_matches('.'))
        }
    }

    /// Where a label goes that belongs to something from one place to another: behind it, or before it where the frame
    /// ends.
    fn label_at(self, from: f64, to: f64, needs: f64, gap: f64) -> f64 {
        if to + gap + needs <= self.frame.to {
            to + gap
        } else {
            (from - gap - needs).max(self.frame.left() + 4.0)
        }
    }
}

/// An item of a row: its extent, its label, and the label's position.
struct Item<'a> {
    row: &'a Row,
    from: f64,
    to: f64,
    label: String,
    label_at: f64,
    inside: bool,
    extent: Extent,
}

fn item<'a>(row: &'a Row, at: Place<'_>) -> Item<'a> {
    let single = row.first == row.last;
    let from = at.x_of(row.first);
    let to = if single { from } else { at.x_behind(row.last).max(from + 3.0) };
    let range = at.words(row.first, row.last);
    let owner = row.who.as_deref().unwrap_or(&row.owner);
    let label = match row.kind {
        AllocationKind::Address | AllocationKind::OutsideAddress => format!("{range} {}", row.owner),
        AllocationKind::NameServer => format!("{range} DNS server"),
        AllocationKind::PoolNetwork => format!("network of {}", row.owner),
        _ => format!("{range} {owner}"),
    };
    // A long bar holds a long label; else it has to leave room for others.
    let room = (at.frame.span() / 2.5).min(230.0).max(to - from - 12.0);
    let label = cut(&label, TEXT, room);
    let needs = width(&label, TEXT);
    let patterned = matches!(look(row.kind).shape, Shape::Slanted | Shape::Dotted);
    let inside = !single && !patterned && needs + 10.0 < to - from;
    let label_at =
        if inside { from + 5.0 } else { at.label_at(from, to, needs, if single { 8.0 } else { 5.0 }) };
    let reach = if single { 6.0 } else { 0.0 };
    let extent = Extent { from: (from - reach).min(label_at), to: (to + reach).max(label_at + needs) };
    Item { row, from, to, label, label_at, inside, extent }
}

/// Allocations of one device in a block.
#[derive(Default)]
struct DeviceRow<'a> {
    /// Interfaces whose network is the block.
    interfaces: Vec<&'a str>,
    items: Vec<Item<'a>>,
}

/// Draws a block. Returns where the next one begins.
pub(super) fn strip(body: &mut String, sheet: &Sheet, block: &Block, frame: Frame, top: f64) -> f64 {
    let at = Place { block, frame };
    let mut y = top + 15.0;
    heading(body, sheet, at, y);
    y += 6.0;
    let frame_top = y;
    y += 14.0;
    let mut lines = String::new();
    for (device, row) in &devices(sheet, at) {
        y = device_row(&mut lines, device, row, frame, y);
    }
    y = overlaps(&mut lines, sheet, at, frame_top + 14.0, y);
    axis(body, at, frame_top, y);
    body.push_str(&lines);
    y + 4.0
}

fn heading(body: &mut String, sheet: &Sheet, at: Place<'_>, y: f64) {
    let net = at.block.net;
    let count = 1u128.checked_shl(u32::from(net.max_prefix_len() - at.block.length)).unwrap_or(u128::MAX);
    let many = if count > 1 << 32 { String::new() } else { format!("{count} addresses") };
    let foreign = at.block.rows.iter().any(|row| sheet.allocations[*row].foreign);
    let warning = if foreign { "! foreign public address space" } else { "" };
    let x = at.frame.from;
    let _ = write!(
        body,
        "<text x=\"{x:.1}\" y=\"{y:.1}\" font-size=\"13\" font-weight=\"bold\">{net}</text>\
         <text x=\"{:.1}\" y=\"{y:.1}\" font-size=\"{TEXT}\" fill=\"#555\">{many} \
         <tspan font-weight=\"bold\" fill=\"#000\">{warning}</tspan></text>",
        x + width(&net.to_string(), 13.0) + 16.0
    );
}

/// Devices in order of name, each with its allocations. The network of the whole block is the frame, so its interfaces are named next to
/// the device.
fn devices<'a>(sheet: &'a Sheet, at: Place<'_>) -> BTreeMap<&'a str, DeviceRow<'a>> {
    let mut found: BTreeMap<&str, DeviceRow<'_>> = BTreeMap::new();
    let rows = || at.block.rows.iter().map(|row| &sheet.allocations[*row]);
    // A tunnel's own link is the network reserved for its clients.
    let set_aside: BTreeSet<_> = rows()
        .filter(|row| row.kind == AllocationKind::PoolNetwork)
        .map(|row| (&row.device, row.first, row.last))
        .collect();
    let mut seen = BTreeSet::new();
    for row in rows() {
        let known = found.entry(&row.device).or_default();
        let whole = row.first == at.block.net.network() && row.last == at.block.net.broadcast();
        if row.kind == AllocationKind::Network && whole {
            known.interfaces.push(&row.owner);
        } else if row.kind == AllocationKind::Link && set_aside.contains(&(&row.device, row.first, row.last))
        {
        } else if seen.insert((&row.device, row.kind, row.first, row.last, &row.who)) {
            known.items.push(item(row, at));
        }
    }
    found
}

/// Kinds of items in a block.
pub(super) fn drawn_kinds(sheet: &Sheet, block: &Block) -> Vec<AllocationKind> {
    let rows = devices(sheet, Place { block, frame: WHOLE });
    rows.values().flat_map(|row| &row.items).map(|item| item.row.kind).collect()
}

fn device_row(out: &mut String, device: &str, row: &DeviceRow<'_>, frame: Frame, top: f64) -> f64 {
    let extents: Vec<Extent> = row.items.iter().map(|item| item.extent).collect();
    let (placed, lanes) = place(&extents);
    let hidden = placed.iter().filter(|lane| **lane >= MOST_LANES).count();
    let lanes = lanes.clamp(1, MOST_LANES) + usize::from(hidden > 0);
    let interfaces = cut(&row.interfaces.join(" "), SMALL, 44.0);
    let name = cut(device, TEXT, NAMES - 14.0 - width(&interfaces, SMALL));
    let baseline = top + 11.5;
    let _ = write!(
        out,
        "<text x=\"{:.1}\" y=\"{baseline:.1}\" font-size=\"{TEXT}\">{}</text>",
        frame.from,
        escape(&name)
    );
    if !interfaces.is_empty() {
        let _ = write!(
            out,
            "<text x=\"{:.1}\" y=\"{baseline:.1}\" font-size=\"{SMALL}\" fill=\"#666\" text-anchor=\"end\">{}</text>",
            frame.left() - 8.0,
            escape(&interfaces)
        );
    }
    for (item, lane) in row.items.iter().zip(&placed).filter(|(_, lane)| **lane < MOST_LANES) {
        draw_item(out, item, top + *lane as f64 * LANE + LANE / 2.0);
    }
    let bottom = top + lanes as f64 * LANE;
    if hidden > 0 {
        let _ = write!(
            out,
            "<text x=\"{:.1}\" y=\"{:.1}\" font-size=\"{TEXT}\" fill=\"#666\">and {hidden} more in the text output</text>",
            frame.left() + 6.0,
            bottom - 4.0
        );
    }
    let _ = write!(
        out,
        "<path d=\"M{:.1},{bottom:.1} H{:.1}\" stroke=\"#ddd\" stroke-width=\"1\"/>",
        frame.from, frame.to
    );
    bottom
}

fn draw_item(out: &mut String, item: &Item<'_>, y: f64) {
    let look = look(item.row.kind);
    mark(out, &look, item.from, item.to, y);
    let fill = if item.inside && look.shape == Shape::Solid { "#ffffff" } else { "#111111" };
    label(out, &item.label, item.label_at, y, fill);
}

fn label(out: &mut String, words: &str, x: f64, y: f64, fill: &str) {
    let _ = write!(
        out,
        "<text x=\"{x:.1}\" y=\"{:.1}\" font-size=\"{TEXT}\" fill=\"{fill}\">{}</text>",
        y + 4.0,
        escape(words)
    );
}

/// Addresses along the top, and lines down to the bottom.
fn axis(body: &mut String, at: Place<'_>, top: f64, bottom: f64) {
    let (left, span) = (at.frame.left(), at.frame.span());
    let _ = write!(
        body,
        "<rect x=\"{left:.1}\" y=\"{top:.1}\" width=\"{span:.1}\" height=\"{:.1}\" fill=\"#fafafa\" stroke=\"#999\" stroke-width=\"1\"/>",
        bottom - top
    );
    let ticks: u8 = if span > 800.0 { 8 } else { 4 };
    for tick in 0..=ticks {
        let place = f64::from(tick) / f64::from(ticks);
        let x = left + place * span;
        let (anchor, x_words) = match tick {
            0 => ("start", x + 3.0),
            tick if tick == ticks => ("end", x - 3.0),
            _ => ("middle", x),
        };
        let words = cut(&short_end(at.block.at(place), at.block), SMALL, span / f64::from(ticks) - 6.0);
        let _ = write!(
            body,
            "<path d=\"M{x:.1},{:.1} V{bottom:.1}\" stroke=\"#e4e4e4\" stroke-width=\"1\"/>\
             <text x=\"{x_words:.1}\" y=\"{:.1}\" font-size=\"{SMALL}\" fill=\"#666\" text-anchor=\"{anchor}\">{}</text>",
            top + 14.0,
            top + 10.5,
            escape(&words)
        );
    }
}

/// An overlap of several allocations, with its label.
struct Shared {
    meaning: OverlapKind,
    from: f64,
    to: f64,
    words: String,
}

/// Overlaps of a block: those of the same addresses are one.
fn shared(sheet: &Sheet, at: Place<'_>) -> Vec<Shared> {
    let mut found: BTreeMap<(IpAddr, IpAddr), (OverlapKind, Vec<String>)> = BTreeMap::new();
    for one in at.block.overlaps.iter().map(|one| &sheet.overlaps[*one]) {
        let (meaning, names) = found.entry((one.first, one.last)).or_insert((one.meaning, Vec::new()));
        *meaning = (*meaning).min(one.meaning);
        for row in one.rows.map(|row| &sheet.allocations[row]) {
            let name = format!("{} ({})", row.who.as_deref().unwrap_or(row.kind.words()), row.device);
            if !names.contains(&name) {
                names.push(name);
            }
        }
    }
    let words = |first, last, meaning: OverlapKind, names: &[String]| {
        let perhaps = if meaning == OverlapKind::Unclear { "possible: " } else { "" };
        format!("{}: {perhaps}{}", at.words(first, last), names.join(", "))
    };
    found
        .into_iter()
        .map(|((first, last), (meaning, names))| {
            let from = at.x_of(first);
            Shared {
                meaning,
                from,
                to: at.x_behind(last).max(from + 4.0),
                words: cut(&words(first, last, meaning, &names), TEXT, (at.frame.span() * 0.8).min(560.0)),
            }
        })
        .collect()
}

/// Overlaps, hatched, with a band up through the rows and a label.
fn overlaps(out: &mut String, sheet: &Sheet, at: Place<'_>, top: f64, y: f64) -> f64 {
    let shown = shared(sheet, at);
    if shown.is_empty() {
        return y;
    }
    let labels: Vec<f64> =
        shown.iter().map(|one| at.label_at(one.from, one.to, width(&one.words, TEXT), 5.0)).collect();
    let extents: Vec<Extent> = shown
        .iter()
        .zip(&labels)
        .map(|(one, label)| Extent {
            from: one.from.min(*label),
            to: one.to.max(label + width(&one.words, TEXT)),
        })
        .collect();
    let (placed, lanes) = place(&extents);
    let _ = write!(
        out,
        "<text x=\"{:.1}\" y=\"{:.1}\" font-size=\"{TEXT}\" font-weight=\"bold\">overlaps</text>",
        at.frame.from,
        y + 11.5
    );
    for ((one, lane), label_at) in shown.iter().zip(&placed).zip(&labels) {
        if *lane >= MOST_LANES {
            continue;
        }
        let middle = y + *lane as f64 * LANE + LANE / 2.0;
        let fault = one.meaning == OverlapKind::Fault;
        if fault {
            let _ = write!(
                out,
                "<rect x=\"{:.1}\" y=\"{top:.1}\" width=\"{:.1}\" height=\"{:.1}\" fill=\"#000\" fill-opacity=\"0.09\"/>",
                one.from,
                one.to - one.from,
                y - top
            );
        }
        hatch(out, if fault { "twice" } else { "meant" }, one.from, one.to, middle - BAR / 2.0, BAR);
        label(out, &one.words, *label_at, middle, "#111111");
    }
    y + lanes.min(MOST_LANES) as f64 * LANE + 2.0
}
