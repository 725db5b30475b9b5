//! Picture of the exposure: the Internet at the left, devices as panels, each path a line from left to right that ends at a service or at
//! the filter that blocks it. Lines differ in weight and pattern as well as in colour, so that they remain readable in print and for
//! readers who do not distinguish the colours.

use super::draw::Page;
use super::{MARGIN, RIGHT, WIDTH, cut, escape};
use std::collections::BTreeMap;
use std::fmt::Write;
use trevlin_audit::exposure::protection::Protection;
use trevlin_audit::reachability::ReachStep;
use trevlin_audit::services::Encrypted;
use trevlin_audit::tables::exposure::{ExposureSheet, ForwardRow, OpeningRow, ReachedRow};
use trevlin_audit::{ForwardVerdict, OpeningTo, joined_factors};

/// Where lines begin and end.
const FROM: f64 = MARGIN + 92.0;
const UNTIL: f64 = 842.0;
/// Where the words behind a line begin.
const WORDS: f64 = UNTIL + 16.0;
/// Room for a row where there is room enough, and the least that a row takes.
const ROW: f64 = 50.0;
const TIGHT_ROW: f64 = 38.0;
/// How tall a picture is that fits a screen.
const SCREEN: f64 = 800.0;
/// Space above and below the rows.
const HEAD: f64 = 66.0;
const FOOT: f64 = 96.0;

/// How a line ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum End {
    /// Something answers.
    Answers,
    /// It is stopped there.
    Stopped,
    /// No host has the address.
    Nobody,
    /// Whole networks or devices lie open.
    Open,
}

/// How a line looks: colour, weight, pattern.
#[derive(Debug, Clone, Copy)]
struct Look {
    colour: &'static str,
    weight: f64,
    dashes: &'static str,
}

fn look(protection: Option<Protection>) -> Look {
    let (colour, weight, dashes) = match protection {
        Some(Protection::Unprotected) => ("#a3122a", 5.5, ""),
        Some(Protection::Weak) => ("#b8690f", 3.5, "14 5"),
        Some(Protection::Undetermined) => ("#6a3d9a", 2.5, "2 5"),
        Some(Protection::Protected) => ("#0c7060", 1.6, ""),
        Some(Protection::Limited) => ("#2f5d9b", 1.8, "12 4 2 4"),
        // A forward that leads nowhere.
        None => ("#666666", 1.6, "5 4"),
    };
    Look { colour, weight, dashes }
}

/// One line of the picture.
struct Row {
    /// Devices on the path, in order.
    devices: Vec<String>,
    protection: Option<Protection>,
    end: End,
    /// Destination: addresses, and ports.
    called: [String; 2],
    /// Label of the line: the service, and remarks.
    name: String,
    more: String,
}

/// The word of the command line for untrusted networks.
const OUTSIDE: &str = "outside";

/// Label of the source.
fn source(sheet: &ExposureSheet) -> &str {
    if sheet.from == OUTSIDE { "Internet" } else { &sheet.from }
}

/// Devices on the path, in the order of the first steps at each.
fn devices(steps: &[ReachStep], last: &str) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    for step in steps {
        if step.device != "-" && !all.contains(&step.device) {
            all.push(step.device.clone());
        }
    }
    if !last.is_empty() && !all.iter().any(|one| one == last) {
        all.push(last.to_owned());
    }
    all
}

/// A few of many, shortly.
fn few(all: &[String]) -> String {
    match all {
        [] => String::new(),
        [one] => one.clone(),
        [first, .., last] if all.len() > 2 => format!("{first} … {last}"),
        all => all.join(", "),
    }
}

fn of_service(row: &ReachedRow) -> Row {
    let encrypted = match row.service.encrypted {
        Some(Encrypted::Yes) => "encrypted",
        Some(Encrypted::No) => "no encryption",
        Some(Encrypted::May) => "encryption optional",
        None => "encryption not known",
    };
    let factors = match &row.service.factors {
        None => "logins not known".to_owned(),
        Some(none) if none.is_empty() => "no login".to_owned(),
        Some(factors) => joined_factors(factors, " + "),
    };
    let who = if row.everybody { String::new() } else { format!("only {}; ", few(&row.sources)) };
    Row {
        devices: devices(&row.steps, &row.device),
        protection: Some(row.protection),
        end: End::Answers,
        called: [few(&row.called), few(&row.called_at)],
        name: format!("{} on {}", row.service.name, row.device),
        more: format!("{} · {who}{encrypted}, {factors}", row.endpoint.join(", ")),
    }
}

fn of_opening(row: &OpeningRow) -> Row {
    let to = match (row.to, &row.leaving) {
        (OpeningTo::Device, _) => format!("{} itself", row.device),
        (_, Some(leaving)) => format!("networks behind {}:{leaving}", row.device),
        _ => format!("networks behind {}", row.device),
    };
    let at: Vec<String> = row
        .at
        .iter()
        .map(|one| match one.is_every_port() {
            true => format!("every {} port", one.protocol_name()),
            false => one.to_string(),
        })
        .collect();
    let everybody = row.everybody;
    let protection = match (row.certain, everybody) {
        (false, _) => Protection::Undetermined,
        (true, false) => Protection::Limited,
        (true, true) => Protection::Unprotected,
    };
    Row {
        devices: devices(&row.steps, &row.device),
        protection: Some(protection),
        end: End::Open,
        called: [few(&row.addresses), few(&at)],
        name: to,
        more: format!("open: {}; no known service", at.join(", ")),
    }
}

fn of_forward(row: &ForwardRow) -> Row {
    let stopped = matches!(row.outcome, ForwardVerdict::BlockedLater | ForwardVerdict::Circle);
    let last = if stopped {
        let step = row.steps.iter().rev().find(|step| step.path.is_some());
        step.map_or(row.device.as_str(), |step| step.device.as_str())
    } else {
        row.device.as_str()
    };
    let to = row.to.clone().unwrap_or_default();
    Row {
        devices: devices(&row.steps, last),
        protection: None,
        end: if stopped { End::Stopped } else { End::Nobody },
        called: [few(&row.called), few(&row.called_at)],
        name: format!("forward to {to}"),
        more: match (row.outcome, stopped) {
            (_, true) => format!("{}: blocked by {last}", row.outcome),
            (ForwardVerdict::NobodyThere, _) => "unassigned".to_owned(),
            (outcome, _) => match &row.remark {
                Some(remark) => format!("{outcome}: {remark}"),
                None => outcome.to_string(),
            },
        },
    }
}

/// All rows: those that share a path are adjacent, the highest severity first.
fn rows(sheet: &ExposureSheet) -> Vec<Row> {
    let reached = sheet.reached.iter().map(of_service);
    let openings = sheet.openings.iter().filter(|one| one.forward.is_none()).map(of_opening);
    let nowhere = sheet
        .forwards
        .iter()
        .filter(|one| !matches!(one.outcome, ForwardVerdict::Works | ForwardVerdict::NeverMet))
        .map(of_forward);
    let mut all: Vec<Row> = reached.chain(openings).chain(nowhere).collect();
    // The highest severity of each entry point, and of each path.
    let mut top_findings: BTreeMap<Vec<String>, usize> = BTreeMap::new();
    let rank = |row: &Row| row.protection.map_or(9, |protection| protection as usize);
    for row in &all {
        for length in 1..=row.devices.len() {
            let key = row.devices[..length].to_vec();
            let known = top_findings.entry(key).or_insert(usize::MAX);
            *known = (*known).min(rank(row));
        }
    }
    all.sort_by_cached_key(|row| {
        let way: Vec<(usize, String)> = (1..=row.devices.len())
            .map(|length| (top_findings[&row.devices[..length]], row.devices[length - 1].clone()))
            .collect();
        (way, rank(row), row.name.clone(), row.called.clone())
    });
    all
}

/// The picture.
pub(super) fn page(sheet: &ExposureSheet) -> Page {
    let rows = rows(sheet);
    let room = (SCREEN - HEAD - FOOT) / rows.len().max(1) as f64;
    let step = room.clamp(TIGHT_ROW, ROW);
    let columns = rows.iter().map(|row| row.devices.len()).max().unwrap_or(1);
    let mut body = String::new();
    head(&mut body, sheet);
    let top = HEAD;
    let bottom = top + step * rows.len().max(1) as f64;
    let _ = write!(
        body,
        "<rect x=\"{MARGIN}\" y=\"{top}\" width=\"{}\" height=\"{}\" rx=\"6\" fill=\"#e7e4dc\" stroke=\"#8c8577\"/>\
         <text x=\"{}\" y=\"{}\" font-size=\"13\" font-weight=\"bold\" text-anchor=\"middle\">{}</text>",
        FROM - MARGIN,
        bottom - top,
        (MARGIN + FROM) / 2.0,
        (top + bottom) / 2.0,
        escape(&cut(source(sheet), 13.0, FROM - MARGIN - 8.0))
    );
    if rows.is_empty() {
        let _ = write!(
            body,
            "<text x=\"{}\" y=\"{}\" font-size=\"14\">no known service is reachable</text>",
            FROM + 20.0,
            top + 28.0
        );
    }
    panels(&mut body, &rows, columns, top, step);
    for (number, row) in rows.iter().enumerate() {
        line(&mut body, row, columns, top + step * number as f64, step);
    }
    legend(&mut body, sheet, &rows, bottom + 26.0);
    let height = (bottom + FOOT).max(240.0).ceil();
    let text = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{WIDTH}\" height=\"{height}\" viewBox=\"0 0 {WIDTH} {height}\" \
         font-family=\"Ubuntu, 'DejaVu Sans', sans-serif\" fill=\"#222\">\n<rect width=\"100%\" height=\"100%\" fill=\"#fff\"/>\n\
         {body}</svg>\n"
    );
    Page { text, height }
}

fn head(body: &mut String, sheet: &ExposureSheet) {
    let count =
        |protection: Protection| sheet.reached.iter().filter(|one| one.protection == protection).count();
    let told: Vec<String> = Protection::ALL
        .into_iter()
        .filter(|protection| count(*protection) > 0)
        .map(|protection| format!("{} {}", count(protection), protection.word()))
        .collect();
    let nowhere = sheet
        .forwards
        .iter()
        .filter(|one| !matches!(one.outcome, ForwardVerdict::Works | ForwardVerdict::NeverMet))
        .count();
    let told = format!("services reachable: {}; forwards without a service: {nowhere}", told.join(", "));
    let article = if sheet.from == OUTSIDE { "the " } else { "" };
    let title = format!("Reachable from {article}{}", source(sheet));
    let title = cut(&title, 20.0, 500.0);
    let _ = write!(
        body,
        "<text x=\"{MARGIN}\" y=\"36\" font-size=\"20\" font-weight=\"bold\">{}</text>\
         <text x=\"{RIGHT}\" y=\"36\" font-size=\"12.5\" fill=\"#444\" text-anchor=\"end\">{}</text>",
        escape(&title),
        escape(&told)
    );
}

/// Left end and width of a column of panels.
fn column(number: usize, columns: usize) -> (f64, f64) {
    let begin = FROM + 168.0;
    let width = (UNTIL - 24.0 - begin) / columns as f64;
    (begin + width * number as f64, width - 20.0)
}

/// Devices: one panel for rows beneath each other that come by the same one.
fn panels(body: &mut String, rows: &[Row], columns: usize, top: f64, step: f64) {
    for at in 0..columns {
        let (x, width) = column(at, columns);
        let mut first = 0;
        while first < rows.len() {
            let way = |row: usize| rows[row].devices.get(..=at);
            let Some(here) = way(first) else {
                first += 1;
                continue;
            };
            let mut last = first;
            while last + 1 < rows.len() && way(last + 1) == Some(here) {
                last += 1;
            }
            let (y, height) = (top + step * first as f64 + 2.0, step * (last + 1 - first) as f64 - 4.0);
            let _ = write!(
                body,
                "<rect x=\"{x}\" y=\"{y}\" width=\"{width}\" height=\"{height}\" rx=\"5\" fill=\"#f3f5f8\" stroke=\"#5b6777\"/>\
                 <text x=\"{}\" y=\"{}\" font-size=\"12\" font-weight=\"bold\">{}</text>",
                x + 8.0,
                y + 14.0,
                escape(&cut(&here[at], 12.0, width - 14.0))
            );
            first = last + 1;
        }
    }
}

fn line(body: &mut String, row: &Row, columns: usize, top: f64, step: f64) {
    let look = look(row.protection);
    let y = top + step * 0.55;
    let (panel, width) = column(row.devices.len().saturating_sub(1), columns);
    // A blocked path ends at the blocking device, a path without a host behind the last one.
    let until = match row.end {
        End::Stopped => panel + width * 0.5,
        End::Nobody => panel + width + 12.0,
        End::Answers | End::Open => UNTIL,
    };
    let dashes =
        if look.dashes.is_empty() { String::new() } else { format!(" stroke-dasharray=\"{}\"", look.dashes) };
    let Look { colour, weight, .. } = look;
    let _ = write!(
        body,
        "<line x1=\"{FROM}\" y1=\"{y}\" x2=\"{until}\" y2=\"{y}\" stroke=\"{colour}\" stroke-width=\"{weight}\"{dashes}/>"
    );
    match row.end {
        End::Answers => {
            let _ = write!(
                body,
                "<path d=\"M{until} {} L{} {y} L{until} {} Z\" fill=\"{colour}\"/>",
                y - 6.0,
                until + 11.0,
                y + 6.0
            );
        }
        End::Open => {
            let _ = write!(
                body,
                "<path d=\"M{until} {} L{} {y} L{until} {} M{} {} L{} {y} L{} {}\" fill=\"none\" stroke=\"{colour}\" stroke-width=\"2.5\"/>",
                y - 7.0,
                until + 9.0,
                y + 7.0,
                until - 6.0,
                y - 7.0,
                until + 3.0,
                until - 6.0,
                y + 7.0
            );
        }
        End::Stopped => {
            let _ = write!(
                body,
                "<path d=\"M{0} {2} L{1} {3} M{0} {3} L{1} {2}\" stroke=\"{colour}\" stroke-width=\"3\"/>",
                until - 6.0,
                until + 6.0,
                y - 6.0,
                y + 6.0
            );
        }
        End::Nobody => {
            let _ = write!(
                body,
                "<circle cx=\"{}\" cy=\"{y}\" r=\"5\" fill=\"#fff\" stroke=\"{colour}\" stroke-width=\"2\"/>",
                until + 5.0
            );
        }
    }
    let (begin, _) = column(0, columns);
    for (text, below) in row.called.iter().zip([-6.5, 12.5]) {
        let _ = write!(
            body,
            "<text x=\"{}\" y=\"{}\" font-size=\"11\" fill=\"#333\">{}</text>",
            FROM + 8.0,
            y + below,
            escape(&cut(text, 11.0, begin - FROM - 14.0))
        );
    }
    let room = RIGHT - WORDS;
    let _ = write!(
        body,
        "<text x=\"{WORDS}\" y=\"{}\" font-size=\"12.5\" font-weight=\"bold\">{}</text>\
         <text x=\"{WORDS}\" y=\"{}\" font-size=\"11\" fill=\"#444\">{}</text>",
        y - 2.0,
        escape(&cut(&row.name, 12.5, room)),
        y + 12.0,
        escape(&cut(&row.more, 11.0, room))
    );
}

/// Legend of the lines, in two columns.
fn legend(body: &mut String, sheet: &ExposureSheet, rows: &[Row], top: f64) {
    let mut entries: Vec<(Option<Protection>, String)> = Protection::ALL
        .into_iter()
        .filter(|protection| rows.iter().any(|row| row.protection == Some(*protection)))
        .map(|protection| (Some(protection), format!("{}: {}", protection.word(), protection.meaning())))
        .collect();
    if rows.iter().any(|row| row.protection.is_none()) {
        entries.push((
            None,
            "forward without a service (cross: blocked; circle: no known host or service)".to_owned(),
        ));
    }
    let column = (RIGHT - MARGIN) / 2.0;
    for (number, (protection, text)) in entries.iter().enumerate() {
        let (x, y) = (MARGIN + column * (number % 2) as f64, top + 20.0 * (number / 2) as f64);
        let look = look(*protection);
        let dashes = if look.dashes.is_empty() {
            String::new()
        } else {
            format!(" stroke-dasharray=\"{}\"", look.dashes)
        };
        let _ = write!(
            body,
            "<line x1=\"{x}\" y1=\"{}\" x2=\"{}\" y2=\"{}\" stroke=\"{}\" stroke-width=\"{}\"{dashes}/>\
             <text x=\"{}\" y=\"{y}\" font-size=\"11\" fill=\"#333\">{}</text>",
            y - 4.0,
            x + 44.0,
            y - 4.0,
            look.colour,
            look.weight,
            x + 52.0,
            escape(&cut(text, 11.0, column - 58.0))
        );
    }
    let rest = top + 20.0 * (entries.len().div_ceil(2)) as f64;
    if sheet.cut {
        let _ = write!(
            body,
            "<text x=\"{MARGIN}\" y=\"{rest}\" font-size=\"11\">The result is incomplete: the work limit was reached.</text>"
        );
    }
}
