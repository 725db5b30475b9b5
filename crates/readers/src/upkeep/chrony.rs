//! `chrony.conf` and its folders (chrony.conf(5)): which clocks a device follows, and whose it is.

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::serving::{self, is_known, words};
use crate::telling::CHRONY as TELLING;
use trevlin_model::housekeeping::ClockKeeper;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "chrony",
    title: "time synchronisation (chrony)",
    manual: "chrony.conf(5)",
    recognise,
    read,
};

fn recognise(export: &Export) -> Recognition {
    let first = |text: &'_ str| text.split_whitespace().next().unwrap_or_default().to_ascii_lowercase();
    let found: Vec<String> = export.lines().take(TELLING_LINES).map(|line| first(line.text)).collect();
    let tells = found.iter().any(|word| TELLING.contains(&word.as_str()));
    let path = export.path();
    if tells {
        Recognition::Content
    } else if export.file_name() == "chrony.conf"
        || path.contains("chrony/") && (path.ends_with(".conf") || path.ends_with(".sources"))
    {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// The words of a line, the first of them in small letters.
type Statement = (Vec<String>, Origin);

/// Information that no export contains, with the line that raises the request.
type Question = (String, Origin);

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let main = around.exports.iter().any(|one| one.file_name() == "chrony.conf");
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut lines = lines(export, &mut book);
    if export.file_name() != "chrony.conf" && main {
        return reading;
    }
    // Its folders come in where it names them; the order among them does not matter here.
    let others = around
        .of_format(&READER)
        .filter(|(one, _)| one.path() != export.path() && one.file_name() != "chrony.conf");
    for (other, recognised) in others {
        if recognised == Recognition::Name {
            let mut aside = Reading::of(other);
            lines.extend(self::lines(
                other,
                &mut LineRecorder::new(other, &mut aside.ledger, &mut aside.elsewhere),
            ));
        }
    }
    let (others, missing, elsewhere) = read_in(export, around, &lines);
    lines.extend(others);
    let origin = lines.first().map_or_else(|| export.origin(0..0), |one| one.1);
    reading.facts.clock_keepers.push(ClockKeeper {
        program: "chrony",
        sources: lines
            .iter()
            .filter(|(words, _)| matches!(words[0].as_str(), "server" | "pool" | "peer" | "refclock"))
            .map(|(words, origin)| (words.get(1).cloned().unwrap_or_default(), *origin))
            .collect(),
        open: missing.iter().chain(&elsewhere).cloned().collect(),
        origin,
    });
    for mut one in served(&lines, origin) {
        one.open.extend(missing.iter().cloned());
        reading.facts.served.push(one);
    }
    reading
}

/// Lines of the files that some of these lines read in, of which those in chrony's own folders are there already; questions about
/// files that are not among the exports; and about folders of clocks of which nothing is (chrony.conf(5), include, confdir,
/// sourcedir).
fn read_in(
    export: &Export,
    around: &ReadContext<'_>,
    lines: &[Statement],
) -> (Vec<Statement>, Vec<Question>, Vec<Question>) {
    let (mut more, mut missing, mut elsewhere) = (Vec::new(), Vec::new(), Vec::new());
    for (words, origin) in lines {
        let mut found = Vec::new();
        for path in &words[1..] {
            let pattern = match words[0].as_str() {
                "include" => path.clone(),
                "confdir" => format!("{path}/*.conf"),
                "sourcedir" => format!("{path}/*.sources"),
                _ => break,
            };
            found.extend(around.find_all(&pattern, export));
        }
        let path = words.get(1).map_or("", String::as_str);
        match words[0].as_str() {
            "include" if found.is_empty() => {
                missing.push((crate::reader::missing_note(path), *origin));
            }
            "sourcedir" if found.is_empty() => {
                elsewhere.push((
                    format!("please provide the files in `{path}`, which may name time sources"),
                    *origin,
                ));
            }
            _ => {}
        }
        for other in found.into_iter().filter(|one| recognise(one) != Recognition::Name) {
            let mut aside = Reading::of(other);
            more.extend(self::lines(
                other,
                &mut LineRecorder::new(other, &mut aside.ledger, &mut aside.elsewhere),
            ));
        }
    }
    (more, missing, elsewhere)
}

fn lines(export: &Export, book: &mut LineRecorder<'_>) -> Vec<Statement> {
    let mut found = Vec::new();
    for line in export.lines() {
        let text = line.text.trim();
        if text.starts_with(['!', ';', '#', '%']) {
            continue;
        }
        let mut words: Vec<String> = words(text).into_iter().map(str::to_owned).collect();
        if words.is_empty() {
            continue;
        }
        words[0].make_ascii_lowercase();
        let origin = export.origin_of(text);
        let judged = [
            "server",
            "pool",
            "peer",
            "refclock",
            "allow",
            "deny",
            "cmdallow",
            "cmddeny",
            "include",
            "confdir",
            "sourcedir",
            "bindaddress",
            "bindcmdaddress",
            "cmdport",
            "port",
        ];
        if judged.contains(&words[0].as_str()) {
            book.understood(origin);
        } else if is_known("chrony", &words[0]) {
            book.class(origin, LineClass::Ignored);
        } else {
            book.not_understood(origin, serving::unknown("chrony.conf(5); the daemon refuses to start"));
        }
        found.push((words, origin));
    }
    found
}

/// Permitted clients: none unless `allow` permits them; the smaller network wins, whatever the order, and `all` overrides earlier
/// statements (chrony.conf(5), allow).
fn allowed(lines: &[Statement], allow: &str, deny: &str) -> Sources {
    let mut rules: Vec<(Sources, bool, Origin)> = Vec::new();
    for (words, origin) in lines.iter().filter(|(words, _)| words[0] == allow || words[0] == deny) {
        let mut rest = &words[1..];
        if rest.first().is_some_and(|word| word == "all") {
            rest = &rest[1..];
            rules.clear();
        }
        let mut meant = Sources::default();
        match rest.first().map(String::as_str) {
            None => meant = Sources::everybody(),
            Some("0/0") => meant.ranges.push(trevlin_model::IpRange::all(trevlin_model::Family::V4)),
            Some("::/0") => meant.ranges.push(trevlin_model::IpRange::all(trevlin_model::Family::V6)),
            Some(word) => serving::host(&whole_net(word), &mut meant),
        }
        rules.push((meant, words[0] == allow, *origin));
    }
    rules.sort_by_key(|(sources, ..)| trevlin_model::total_addresses(&sources.ranges));
    let mut left = Sources::everybody();
    let mut found = Sources::default();
    for (meant, allows, origin) in rules {
        if allows {
            found.ranges.extend(left.and(&Sources { names: Vec::new(), ..meant.clone() }).ranges);
            found.names.extend(meant.names.iter().cloned());
            found.origins.push(origin);
        }
        left = left.without(&meant.ranges);
    }
    found
}

/// The old short forms `1.2` and `1.2.3/24` with all their parts.
fn whole_net(word: &str) -> String {
    let (address, length) =
        word.split_once('/').map_or((word, None), |(address, length)| (address, Some(length)));
    let dots = address.bytes().filter(|byte| *byte == b'.').count();
    let digits = address.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.');
    if !digits || dots >= 3 {
        return word.to_owned();
    }
    let filled = format!("{address}{}", ".0".repeat(3 - dots));
    format!("{filled}/{}", length.map_or_else(|| ((dots + 1) * 8).to_string(), str::to_owned))
}

fn served(lines: &[Statement], origin: Origin) -> Vec<Served> {
    let last = |name: &str| lines.iter().rev().find(|(words, _)| words[0] == name && words.len() > 1);
    let mut found = Vec::new();
    let clients = allowed(lines, "allow", "deny");
    let units = &["chrony", "chronyd"];
    let at =
        |port: u16, line: Origin| Endpoint::everywhere(Protocol::UDP, port, TransportSecurity::Plain, line);
    let port =
        last("port").and_then(|(words, line)| Some((words[1].parse().ok()?, *line))).unwrap_or((123, origin));
    if !clients.is_nobody() && port.0 != 0 {
        let line = clients.origins.first().copied().unwrap_or(origin);
        let mut one = Served::new(ServedKind::Time, "chrony", "NTP server (chrony)", units, line);
        let bound: Vec<&Statement> =
            lines.iter().filter(|(words, _)| words[0] == "bindaddress" && words.len() > 1).collect();
        one.endpoints.extend(
            bound.iter().filter_map(|(words, line)| Some(at(port.0, *line).at(words[1].parse().ok()?))),
        );
        if one.endpoints.is_empty() {
            one.endpoints.push(at(port.0, line));
        }
        let mut part = ServiceResource::new(PartKind::Whole, "the time", line);
        part.login = Setting::Stated { value: AuthRequirement::Nothing, origin: line };
        part.sources = clients;
        one.parts.push(part);
        found.push(one);
    }
    let masters = allowed(lines, "cmdallow", "cmddeny");
    let control = last("cmdport")
        .and_then(|(words, line)| Some((words[1].parse().ok()?, *line)))
        .unwrap_or((323, origin));
    // Without an address of its own the port of commands is at the loopback addresses.
    let places: Vec<(std::net::IpAddr, Origin)> = lines
        .iter()
        .filter(|(words, _)| words[0] == "bindcmdaddress" && words.len() > 1)
        .filter_map(|(words, line)| Some((words[1].parse().ok()?, *line)))
        .collect();
    if control.0 != 0 && !masters.is_nobody() && places.iter().any(|(address, _)| !address.is_loopback()) {
        let line = masters.origins.first().copied().unwrap_or(origin);
        let mut one = Served::new(ServedKind::Time, "chrony", "NTP status (chrony)", units, line);
        one.endpoints = places.iter().map(|(address, line)| at(control.0, *line).at(*address)).collect();
        let mut part = ServiceResource::new(PartKind::Whole, "NTP status", line);
        part.login = Setting::Stated { value: AuthRequirement::Nothing, origin: line };
        part.sources = masters;
        part.remarks.push((Remark::Status, line));
        one.parts.push(part);
        found.push(one);
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/chrony/chrony.conf", text.into());
        read(&export, &ReadContext::of(vec![&export]))
    }

    #[test]
    fn whose_clock_it_is() {
        for (text, wanted) in [
            ("pool time.example iburst\ndriftfile /x\n", &[][..]),
            ("allow\n", &["the time: any address"]),
            (
                "allow 10.4.0.0/16\ndeny 10.4.9.0/24\n",
                &["the time: 10.4.0.0-10.4.8.255, 10.4.10.0-10.4.255.255"],
            ),
            ("deny 10.4.0.0/16\nallow 10.4.9\n", &["the time: 10.4.9.0/24"]),
            ("allow 10.4.0.0/16\ndeny all\n", &[]),
            ("allow 0/0\nport 0\n", &[]),
            ("cmdallow 10.4.0.0/16\n", &[]),
            ("cmdallow all\nbindcmdaddress 0.0.0.0\n", &["NTP status: any address"]),
            ("! allow\n% allow\n", &[]),
        ] {
            let reading = of(text);
            let told: Vec<String> = reading
                .facts
                .served
                .iter()
                .map(|one| format!("{}: {}", one.parts[0].name, one.parts[0].sources.words()))
                .collect();
            assert_eq!(told, wanted, "{text}");
            assert!(reading.ledger.notes.is_empty(), "{text}");
        }
        assert_eq!(of("colour red\n").ledger.notes.len(), 1);
    }

    #[test]
    fn clocks_that_it_follows() {
        let reading = of("server time.example nts\nPOOL pool.example\nrefclock PPS /dev/pps0\n# peer x\n");
        let names: Vec<&str> =
            reading.facts.clock_keepers[0].sources.iter().map(|one| one.0.as_str()).collect();
        assert_eq!(names, ["time.example", "pool.example", "PPS"]);
        let main = Export::new(ExportId(0), "d/etc/chrony/chrony.conf", "driftfile /x\n".into());
        let more = Export::new(ExportId(1), "d/etc/chrony/sources.d/a.sources", "server a.example\n".into());
        let around = ReadContext::of(vec![&main, &more]);
        assert_eq!(read(&main, &around).facts.clock_keepers[0].sources.len(), 1);
        assert!(read(&more, &around).facts.clock_keepers.is_empty());
    }
}
