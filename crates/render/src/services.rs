//! Services of devices: text and JSON.

use crate::counted;
use crate::exposure::known;
use crate::sanitize;
use crate::unread::unread;
use anstyle::{AnsiColor, Style};
use serde::Serialize;
use std::io;
use textwrap::{Options, WordSeparator, WordSplitter};
use trevlin_audit::joined_factors;
use trevlin_audit::services::{Encrypted, Known, ProtocolPorts, has_ports};
use trevlin_audit::tables::services::{PartRow, PlaceRow, ServedRow};
use trevlin_audit::tables::unread::UnreadRow;
use trevlin_model::served::AuthRequirement;

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    services: &'a [ServedRow],
    #[serde(skip_serializing_if = "<[UnreadRow]>::is_empty")]
    not_read: &'a [UnreadRow],
}

/// Services as one JSON object, schema `trevlin-services/1`.
///
/// # Errors
/// When writing fails.
pub fn services_json(rows: &[ServedRow], not_read: &[UnreadRow], out: &mut dyn io::Write) -> io::Result<()> {
    crate::json::write(&Document { schema: "trevlin-services/1", services: rows, not_read }, out)
}

/// Services as text: by device, each service with its listeners, protection and reachability, followed by its resources.
///
/// # Errors
/// When writing fails.
pub fn services_text(
    rows: &[ServedRow],
    not_read: &[UnreadRow],
    width: usize,
    out: &mut dyn io::Write,
) -> io::Result<()> {
    if rows.is_empty() {
        writeln!(out, "no service was found in the exports that were read")?;
        return unread(not_read, width, out);
    }
    for device in rows.chunk_by(|a, b| a.device == b.device) {
        let kind = match device[0].device_kind {
            "unknown" => String::new(),
            kind => format!(" ({kind})"),
        };
        writeln!(out, "{BOLD}{}{BOLD:#}{DIM}{kind}{DIM:#}", sanitize(&device[0].device))?;
        for row in device {
            service(row, width, out)?;
        }
        writeln!(out)?;
    }
    summary(rows, width, out)?;
    unread(not_read, width, out)
}

/// Where a service listens, how it is protected and who reaches it, in words.
pub(crate) fn told(row: &ServedRow) -> (String, String, String) {
    let by = match row.known {
        Known::Disabled => known(row.known).to_owned(),
        _ if row.local => "for the device only".to_owned(),
        _ => reached_by(row),
    };
    (places(&row.places), protected(row), by)
}

/// Marker of a service by its reachability, so that colour is never the only distinction.
fn sign(row: &ServedRow) -> (&'static str, Style) {
    let everybody = row.everybody;
    match () {
        () if row.known == Known::Disabled => ("x", DIM),
        () if everybody => ("!", AnsiColor::Red.on_default().bold()),
        () if !row.outside.is_empty() => ("o", AnsiColor::Yellow.on_default().bold()),
        () if !row.clients.is_empty() => ("c", AnsiColor::Magenta.on_default().bold()),
        () if row.local => (".", DIM),
        () => ("i", Style::new()),
    }
}

fn service(row: &ServedRow, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let (sign, style) = sign(row);
    let (name, places) = (sanitize(&row.name), places(&row.places));
    let room = width.clamp(60, 140);
    if 4 + name.chars().count() + 2 + places.chars().count() <= room {
        writeln!(out, "  {style}{sign} {name}{style:#}  {}", sanitize(&places))?;
    } else {
        writeln!(out, "  {style}{sign} {name}{style:#}")?;
        wrapped(6, &places, width, Style::new(), out)?;
    }
    let mut told = vec![protected(row)];
    // Nothing reaches what does not run.
    if row.known != Known::Disabled {
        told.push(reached(row));
    }
    if !matches!(row.known, Known::Configured | Known::Both) {
        told.push(known(row.known).to_owned());
    }
    wrapped(6, &told.join("; "), width, DIM, out)?;
    let rooms = rooms(&row.parts, width);
    for part in &row.parts {
        self::part(part, &rooms, width, out)?;
    }
    for open in &row.open {
        wrapped(6, &format!("? {open}"), width, AnsiColor::Magenta.on_default(), out)?;
    }
    Ok(())
}

/// Ports by address, such as `tcp 139, 445 at every address`.
fn places(all: &[PlaceRow]) -> String {
    let mut groups: Vec<(String, Vec<ProtocolPorts>)> = Vec::new();
    for one in all {
        let at = match (&one.address, &one.interface) {
            (Some(address), _) => address.to_string(),
            (None, Some(interface)) => interface.clone(),
            (None, None) if one.versions.len() == 1 => format!("any {} address", one.versions[0]),
            (None, None) => "any address".to_owned(),
        };
        match groups.iter_mut().find(|(known, _)| *known == at) {
            Some((_, ports)) => ports.push(one.endpoint),
            None => groups.push((at, vec![one.endpoint])),
        }
    }
    // Addresses with the same ports are listed together.
    let mut joined: Vec<(Vec<String>, Vec<ProtocolPorts>)> = Vec::new();
    for (at, ports) in groups {
        match joined.iter_mut().find(|(_, known)| *known == ports) {
            Some((places, _)) => places.push(at),
            None => joined.push((vec![at], ports)),
        }
    }
    let told: Vec<String> =
        joined.iter().map(|(at, ports)| format!("{} at {}", by_protocol(ports), at.join(", "))).collect();
    told.join("; ")
}

/// `tcp 139`, `tcp 445` as `tcp 139, 445`.
fn by_protocol(ports: &[ProtocolPorts]) -> String {
    let mut groups: Vec<(String, Vec<String>)> = Vec::new();
    for port in ports {
        let protocol = port.protocol_name();
        let number = if has_ports(port.protocol) { port.ports.to_string() } else { String::new() };
        match groups.iter_mut().find(|(known, _)| *known == protocol) {
            Some((_, numbers)) if !numbers.contains(&number) => numbers.push(number),
            Some(_) => {}
            None => groups.push((protocol, vec![number])),
        }
    }
    let told: Vec<String> = groups
        .iter()
        .map(|(protocol, numbers)| format!("{protocol} {}", numbers.join(", ")).trim_end().to_owned())
        .collect();
    told.join(", ")
}

fn protected(row: &ServedRow) -> String {
    let encrypted = match row.encrypted {
        Some(Encrypted::Yes) => "encrypted",
        Some(Encrypted::No) => "no encryption",
        Some(Encrypted::May) => "encryption optional",
        None => "encryption not known",
    };
    let factors = match &row.factors {
        None => "logins not known".to_owned(),
        Some(none) if none.is_empty() => "no login".to_owned(),
        Some(factors) => format!("login: {}", joined_factors(factors, " and ")),
    };
    format!("{encrypted}, {factors}")
}

fn reached(row: &ServedRow) -> String {
    if row.local { "for the device only".to_owned() } else { format!("reachable from {}", reached_by(row)) }
}

fn reached_by(row: &ServedRow) -> String {
    let mut told = Vec::new();
    if !row.outside.is_empty() {
        told.push(format!("{} on the Internet", row.outside.join(", ")));
    }
    if !row.clients.is_empty() {
        told.push(format!("clients of {}", row.clients.join(", ")));
    }
    let who = if told.is_empty() {
        "internal networks, as far as filters show".to_owned()
    } else {
        told.join(" and ")
    };
    let perhaps = if row.uncertain { " (possibly: a condition not analysed decides)" } else { "" };
    format!("{who}{perhaps}")
}

/// Room for names and for who may use them, in columns.
fn rooms(parts: &[PartRow], width: usize) -> [usize; 2] {
    let width = width.clamp(60, 140);
    let name = parts.iter().map(|part| title(part).chars().count()).max().unwrap_or(0);
    let who = parts.iter().map(|part| who(part).chars().count()).max().unwrap_or(0);
    [name.min(width * 32 / 100), who.min(width * 26 / 100)]
}

fn title(part: &PartRow) -> String {
    if part.whole { part.name.clone() } else { format!("{} {}", part.kind, part.name).trim_end().to_owned() }
}

fn who(part: &PartRow) -> String {
    part.sources.clone()
}

/// Permitted users by name; empty where a host has one name in both places.
fn users(part: &PartRow) -> Option<String> {
    match part.users.as_slice() {
        [] => None,
        [_] if part.named_for_user => None,
        users if users.len() > 3 => Some(format!("{} users", users.len())),
        users => Some(users.join(", ")),
    }
}

fn part(part: &PartRow, rooms: &[usize; 2], width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let mut what = Vec::new();
    let bare = part.login == Some(AuthRequirement::Nothing) && !part.near;
    what.push(match part.asks {
        Some(refused) if part.login == Some(AuthRequirement::Refused) => refused.to_owned(),
        Some(asks) => format!("requires {asks}"),
        None => "login not known".to_owned(),
    });
    match part.writes {
        Some(true) => what.push("read and write".into()),
        Some(false) if part.kind != "page" && part.kind != "service" => what.push("read only".into()),
        _ => {}
    }
    match part.encryption {
        Some("required") => what.push("encrypted".into()),
        Some("never") => what.push("clear text".into()),
        _ => {}
    }
    what.extend(part.remarks.iter().map(|remark| (*remark).to_owned()));
    what.extend(users(part));
    what.extend(part.path.iter().filter(|path| **path != part.name).cloned());
    let style = if bare { AnsiColor::Yellow.on_default() } else { Style::new() };
    let (name, sources) = (title(part), who(part));
    let fits = |text: &str, room: usize| text.chars().count() <= room;
    let what = what.join(", ");
    let lead = 8 + rooms[0] + 2 + rooms[1] + 2;
    if fits(&name, rooms[0]) && fits(&sources, rooms[1]) && lead + 20 < width.clamp(60, 140) {
        let lines = lines(&what, width.clamp(60, 140) - lead);
        let first = lines.first().map_or("", String::as_str);
        writeln!(
            out,
            "        {:name_room$}  {:who_room$}  {style}{}{style:#}",
            sanitize(&name),
            sanitize(&sources),
            sanitize(first),
            name_room = rooms[0],
            who_room = rooms[1],
        )?;
        for line in lines.iter().skip(1) {
            writeln!(out, "{:lead$}{style}{}{style:#}", "", sanitize(line))?;
        }
        return Ok(());
    }
    wrapped(8, &format!("{name}: {sources}; {what}"), width, style, out)
}

fn lines(text: &str, room: usize) -> Vec<String> {
    let options = Options::new(room)
        .word_splitter(WordSplitter::NoHyphenation)
        .word_separator(WordSeparator::AsciiSpace)
        .break_words(false);
    textwrap::wrap(text, options).into_iter().map(std::borrow::Cow::into_owned).collect()
}

fn wrapped(indent: usize, text: &str, width: usize, style: Style, out: &mut dyn io::Write) -> io::Result<()> {
    for line in lines(&sanitize(text), width.clamp(60, 140).saturating_sub(indent)) {
        writeln!(out, "{:indent$}{style}{line}{style:#}", "")?;
    }
    Ok(())
}

fn summary(rows: &[ServedRow], width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let count = |wanted: &str| rows.iter().filter(|row| sign(row).0 == wanted).count();
    let told: Vec<String> = [
        ("!", "reachable from the Internet"),
        ("o", "from some Internet addresses"),
        ("c", "by VPN clients"),
        ("i", "from internal networks only"),
        (".", "for the device only"),
        ("x", "disabled"),
    ]
    .into_iter()
    .filter(|(sign, _)| count(sign) > 0)
    .map(|(sign, words)| format!("{sign} {} {words}", count(sign)))
    .collect();
    wrapped(0, &format!("{}: {}", counted(rows.len(), "service"), told.join(", ")), width, Style::new(), out)
}
