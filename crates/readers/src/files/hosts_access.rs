//! Lists of clients that daemons built with libwrap accept and refuse: `hosts.allow` and `hosts.deny` (hosts_access(5), hosts_options(5)).

use crate::distribution::Distribution;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use std::net::{IpAddr, Ipv4Addr};
use trevlin_model::glob;
use trevlin_model::served::{ClientLists, Served, Sources};
use trevlin_model::{Export, IpRange, IpRangeSet, LineClass, Origin};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "hosts-access",
    title: "clients that daemons accept",
    manual: "hosts_access(5)",
    recognise: |export| match export.file_name() {
        "hosts.allow" | "hosts.deny" => Recognition::Name,
        _ => Recognition::No,
    },
    read,
};

/// Options with a value that is not a number (hosts_options(5)).
const WITH_VALUE: [&str; 8] = ["aclexec", "banners", "group", "setenv", "severity", "spawn", "twist", "user"];

/// A rule: a line, or several that backslashes join.
struct Rule {
    daemons: Vec<String>,
    clients: Vec<String>,
    /// Outcome by its options.
    outcome: Outcome,
    origin: Origin,
}

/// Outcome of a rule for the clients that it fits.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Outcome {
    /// As its file: `hosts.allow` accepts and `hosts.deny` refuses.
    Usual,
    /// They are accepted.
    Accepts,
    /// They are refused: `deny`, another program in place of the daemon, or an option in error.
    Refuses,
    /// A program decides.
    Decided,
}

/// Whether a list of daemons means one.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Meant {
    No,
    Yes,
    /// At one of the addresses of the device only.
    InPart,
}

/// Fields, separated by colons outside of brackets, in which addresses of IPv6 stand. A backslash keeps a colon.
fn fields(text: &str) -> Vec<String> {
    let (mut found, mut field, mut inside) = (Vec::new(), String::new(), false);
    let mut letters = text.chars().peekable();
    while let Some(letter) = letters.next() {
        match letter {
            '\\' if letters.peek() == Some(&':') => field.extend(letters.next()),
            ':' if !inside => found.push(std::mem::take(&mut field)),
            _ => {
                inside = letter == '[' || inside && letter != ']';
                field.push(letter);
            }
        }
    }
    found.push(field);
    found.into_iter().map(|field| field.trim().to_owned()).collect()
}

fn words(text: &str) -> Vec<String> {
    let all = text.split([' ', '\t', ',', '\r']).filter(|word| !word.is_empty());
    all.map(str::to_owned).collect()
}

/// Rules with their lines; none where a line has another form. A comment begins in the first column only.
fn rules(export: &Export) -> Vec<(Origin, Option<Rule>)> {
    let mut found = Vec::new();
    let mut lines = export.lines();
    while let Some(first) = lines.next() {
        let (mut text, mut last) = (first.text.to_owned(), first.text);
        while text.ends_with('\\') {
            text.pop();
            let Some(next) = lines.next() else { break };
            text.push_str(next.text);
            last = next.text;
        }
        if text.starts_with('#') || text.trim().is_empty() {
            continue;
        }
        let origin = Origin { end: export.origin_of(last).end, ..export.origin_of(first.text) };
        let rule = match fields(&text).as_slice() {
            [daemons, clients, options @ ..] => Some(Rule {
                daemons: words(daemons),
                clients: words(clients),
                outcome: outcome(options),
                origin,
            }),
            _ => None,
        };
        found.push((origin, rule));
    }
    found
}

/// Outcome of a rule by its options: `allow` and `deny` may only be the last, and an error refuses (hosts_options(5)).
fn outcome(options: &[String]) -> Outcome {
    let mut found = Outcome::Usual;
    for (at, option) in options.iter().enumerate() {
        let (name, value) = option.split_once(['=', ' ', '\t']).unwrap_or((option.as_str(), ""));
        let (name, value) = (name.trim().to_ascii_lowercase(), value.trim_start_matches(['=', ' ', '\t']));
        let number = || value.parse::<u32>().is_ok();
        let right = match name.as_str() {
            "allow" | "deny" | "keepalive" => value.is_empty(),
            "linger" | "umask" => number(),
            "nice" | "rfc931" => value.is_empty() || number(),
            name => WITH_VALUE.contains(&name) && !value.is_empty(),
        };
        match name.as_str() {
            _ if !right => return Outcome::Refuses,
            "allow" | "deny" if at + 1 < options.len() => return Outcome::Refuses,
            "twist" if at + 1 < options.len() => return Outcome::Refuses,
            "allow" if found == Outcome::Usual => found = Outcome::Accepts,
            "deny" | "twist" => return Outcome::Refuses,
            "aclexec" => found = Outcome::Decided,
            _ => {}
        }
    }
    found
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    let without = Distribution::of(around, export).is_without_libwrap();
    for (number, (origin, rule)) in rules(export).into_iter().enumerate() {
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let Some(rule) = rule else {
            book.understood(origin);
            book.note(
                origin,
                "the line has no effect: expected `daemons : clients`, with options behind another colon",
            );
            continue;
        };
        book.understood(origin);
        if without && number == 0 {
            book.note(
                origin,
                "the daemons of this distribution are built without libwrap, so that the list has no effect",
            );
        }
        for client in &rule.clients {
            if let Some(why) = fits_nothing(client) {
                book.note(origin, format!("`{client}` fits no client: {why}"));
            }
        }
    }
    reading
}

/// Why a client's pattern never fits, where that is so.
fn fits_nothing(word: &str) -> Option<&'static str> {
    if let Some((address, mask)) = word.split_once('/').filter(|(address, _)| !address.is_empty()) {
        return net(address.parse().ok()?, mask).err();
    }
    let is_number = word.contains('.') && word.bytes().all(|one| one.is_ascii_digit() || one == b'.');
    let known = word.ends_with('.') || word.starts_with('.') || word.parse::<Ipv4Addr>().is_ok();
    (is_number && !known).then_some("it is no complete address, and beginnings end with a dot")
}

/// The network of an address of IPv4 with a mask or the length of a prefix; none for a mask with gaps. The library compares a client's
/// network with the address as written, and takes two masks for errors.
fn net(address: Ipv4Addr, mask: &str) -> Result<Option<IpRange>, &'static str> {
    let length = match mask.parse::<Ipv4Addr>() {
        Ok(Ipv4Addr::BROADCAST) => return Err("the mask 255.255.255.255 counts as an error"),
        Ok(mask) => {
            let bits = u32::from(mask);
            if bits.count_ones() != bits.leading_ones() {
                return Ok(None);
            }
            bits.leading_ones()
        }
        Err(_) => {
            let digits: String =
                mask.trim_start_matches('+').chars().take_while(char::is_ascii_digit).collect();
            match digits.parse() {
                Ok(length @ 1..=32) => length,
                _ => return Err("lengths of prefixes are 1 to 32; `ALL` stands for every address"),
            }
        }
    };
    let range = crate::addresses::range_or_prefix(&format!("{address}/{length}"));
    match range {
        Some(range) if range.first() != IpAddr::V4(address) => Err("the address has bits outside its mask"),
        range => Ok(range),
    }
}

/// Clients that the lists of a device accept for a daemon: the first rule that fits decides, `hosts.allow` before `hosts.deny`, and who is
/// on neither is accepted. None where neither list was exported.
pub(crate) fn admitted(around: &ReadContext<'_>, export: &Export, daemon: &str) -> Option<Sources> {
    let list = |path: &str| around.find(path, export);
    let (allow, deny) = (list("/etc/hosts.allow"), list("/etc/hosts.deny"));
    allow.or(deny)?;
    let mut own = Vec::new();
    for (list, denies) in [(allow, false), (deny, true)] {
        let Some(list) = list else { continue };
        for rule in rules(list).into_iter().filter_map(|(_, rule)| rule) {
            let meant = means(&rule.daemons, daemon);
            let accepts = match rule.outcome {
                Outcome::Usual => !denies,
                Outcome::Accepts | Outcome::Decided => true,
                Outcome::Refuses => false,
            };
            // What refuses at one of the addresses only leaves the others.
            if meant == Meant::No || meant == Meant::InPart && !accepts {
                continue;
            }
            let mut clients = clients(&rule.clients, list, around);
            if meant == Meant::InPart || rule.outcome == Outcome::Decided {
                clients.ranges.clear();
                clients.names = rule.clients.clone();
            }
            own.push((accepts, clients, rule.origin));
        }
    }
    let mut found = serving::first_match(own, false);
    found.ranges = found.ranges.into_iter().collect::<IpRangeSet>().into_ranges();
    if found.is_everybody() {
        found.origins.clear();
    }
    Some(found)
}

/// The clients for a daemon that Debian builds with libwrap and others do not.
fn consulted(around: &ReadContext<'_>, export: &Export, daemon: &str) -> Option<ClientLists> {
    let sources = admitted(around, export, daemon)?;
    let distribution = Distribution::of(around, export);
    (!distribution.is_without_libwrap())
        .then(|| ClientLists { sources, certain: distribution.is_with_libwrap() })
}

/// The same where most addresses are refused.
pub(crate) fn lists(around: &ReadContext<'_>, export: &Export, daemon: &str) -> Option<ClientLists> {
    consulted(around, export, daemon).filter(|lists| !lists.sources.is_everybody())
}

/// Limits the services of a daemon to the clients that the lists accept for it, where its program consults them; where that is not known, it
/// is a question.
pub(crate) fn limit(services: &mut [Served], around: &ReadContext<'_>, export: &Export, daemon: &str) {
    let Some(lists) = consulted(around, export, daemon) else { return };
    for served in services {
        if lists.certain {
            served.parts.iter_mut().for_each(|part| part.sources = part.sources.and(&lists.sources));
        } else if !lists.sources.is_everybody() {
            let line = lists.sources.origins.first().copied().unwrap_or(served.origin);
            served.open.push((lists.question(daemon), line));
        }
    }
}

/// Whether two words are one, case aside.
fn is(word: &str, other: &str) -> bool {
    word.eq_ignore_ascii_case(other)
}

/// Words before the first `EXCEPT`, and behind it: exceptions, which may have exceptions themselves.
fn except(list: &[String]) -> (&[String], &[String]) {
    match list.iter().position(|word| is(word, "EXCEPT")) {
        Some(at) => (&list[..at], &list[at + 1..]),
        None => (list, &[]),
    }
}

/// Whether a list means a daemon.
fn means(daemons: &[String], daemon: &str) -> Meant {
    let (meant, gone) = except(daemons);
    let fits = |word: &String| match word.split_once('@') {
        Some((name, place)) if fits_name(name, daemon) && !is(place, "ALL") => Meant::InPart,
        Some((name, _)) if fits_name(name, daemon) => Meant::Yes,
        None if fits_name(word, daemon) => Meant::Yes,
        _ => Meant::No,
    };
    let found = meant.iter().map(fits).find(|one| *one != Meant::No).unwrap_or(Meant::No);
    if found == Meant::No || gone.is_empty() {
        return found;
    }
    match means(gone, daemon) {
        Meant::Yes => Meant::No,
        Meant::InPart => Meant::InPart,
        Meant::No => found,
    }
}

/// Whether a pattern for daemons fits one.
fn fits_name(pattern: &str, daemon: &str) -> bool {
    is(pattern, "ALL")
        || glob::matches(&daemon.to_ascii_lowercase(), &pattern.to_ascii_lowercase(), glob::Signs::Plain)
}

/// Clients of a list.
fn clients(list: &[String], export: &Export, around: &ReadContext<'_>) -> Sources {
    let (meant, gone) = except(list);
    let mut found = Sources::default();
    for word in meant {
        client(word, export, around, &mut found);
    }
    if gone.is_empty() { found } else { found.without(&clients(gone, export, around).ranges) }
}

/// Clients that a word means; what only names decide is kept as a name.
fn client(word: &str, export: &Export, around: &ReadContext<'_>, into: &mut Sources) {
    // The user of the client counts where the client tells it.
    let place = match word.split_once('@') {
        Some((user, place)) if is(user, "ALL") => place,
        Some(_) => return into.names.push(word.to_owned()),
        None => word,
    };
    if place.starts_with('/') {
        match around.find(place, export) {
            Some(file) => {
                for one in file.text().split_whitespace() {
                    if !one.starts_with('/') {
                        client(one, file, around, into);
                    }
                }
            }
            None => into.names.push(place.to_owned()),
        }
        return;
    }
    if fits_nothing(place).is_some() {
        return;
    }
    if let Some((address, mask)) = place.split_once('/')
        && let Ok(address) = address.parse()
    {
        match net(address, mask) {
            Ok(Some(range)) => into.ranges.push(range),
            Ok(None) => into.names.push(place.to_owned()),
            Err(_) => {}
        }
        return;
    }
    let beginning = place.strip_suffix('*').filter(|rest| rest.ends_with('.') && !rest.contains(['*', '?']));
    if let Some(range) = beginning.and_then(serving::beginning) {
        into.ranges.push(range);
        return;
    }
    let bare = place.trim_start_matches('[').replacen(']', "", 1);
    serving::host(&bare, into);
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{ExportId, IpRange};

    #[test]
    fn who_is_accepted() {
        for (allow, deny, wanted) in [
            (Some("vsftpd: 10.4.0.0/255.255.0.0 192.0.2."), Some("ALL: ALL"), "10.4.0.0/16, 192.0.2.0/24"),
            (Some("vsftpd: 10.4.0.0/255.255.0.0"), Some("sshd: ALL"), "0.0.0.0/0, ::/0"),
            (None, Some("ALL: ALL"), ""),
            (None, Some("ALL EXCEPT vsftpd: ALL"), "0.0.0.0/0, ::/0"),
            (Some("ALL: [2001:db8::]/32 : spawn /bin/true"), Some("ALL: ALL"), "2001:db8::/32"),
            (
                Some("vsftpd: 10.4.0.9: DENY\nALL: 10.4.0.0/31, 10.4.0.8/31"),
                Some("ALL: ALL"),
                "10.4.0.0/31, 10.4.0.8",
            ),
            (Some("# vsftpd: ALL"), Some("vsftpd: .yard.example"), "0.0.0.0/0, ::/0"),
            (Some("vsftpd: .yard.example EXCEPT 10.4.0.9"), Some("ALL: ALL"), ".yard.example"),
            // Case does not matter, and exceptions have exceptions.
            (
                Some("VSFTPD: 10.4.0. except 10.4.0.8/29 EXCEPT 10.4.0.9"),
                Some("all: all"),
                "10.4.0.0/29, 10.4.0.9, 10.4.0.16-10.4.0.255",
            ),
            // What fits nobody.
            (Some("vsftpd: 0.0.0.0/0 10.4.0.9/255.255.255.255 10.4.0.9/16 10.4"), Some("ALL: ALL"), ""),
            (
                Some("vsftpd: 10.4.0.\\\n9, 10.5.0.9 : spawn echo a \\: b"),
                Some("ALL: ALL"),
                "10.4.0.9, 10.5.0.9",
            ),
            // An option in error refuses; another program instead of the daemon does as well.
            (Some("vsftpd: 10.4.0.9 : allowed"), None, "0.0.0.0-10.4.0.8, 10.4.0.10-255.255.255.255, ::/0"),
            (Some("vsftpd: 10.4.0.9 : twist /bin/false\nvsftpd: 10.4.0.8/31"), Some("ALL: ALL"), "10.4.0.8"),
            (Some("vsftpd: 10.4.0.9 : aclexec /bin/decide"), Some("ALL: ALL"), "10.4.0.9"),
            (Some("vsftpd@10.4.0.1: 10.4.0.9"), Some("ALL@ALL: ALL@ALL"), "10.4.0.9"),
            (Some("vsftpd: ann@10.4.0.9"), Some("ALL: ALL : severity auth.info"), "ann@10.4.0.9"),
            // A comment begins in the first column.
            (None, Some(" # vsftpd: ALL"), ""),
            (
                Some("vsftpd: 10.4.0.9 : deny"),
                Some("vsftpd: ALL : ALLOW"),
                "0.0.0.0-10.4.0.8, 10.4.0.10-255.255.255.255, ::/0",
            ),
        ] {
            let exports: Vec<Export> = [("d/etc/hosts.allow", allow), ("d/etc/hosts.deny", deny)]
                .into_iter()
                .filter_map(|(path, text)| Some(Export::new(ExportId(0), path, text?.to_owned())))
                .collect();
            let around = ReadContext::of(exports.iter().collect());
            let server = Export::new(ExportId(9), "d/etc/vsftpd.conf", String::new());
            let found = admitted(&around, &server, "vsftpd").unwrap();
            let ranges = found.ranges.iter().map(IpRange::short).chain(found.names.iter().cloned());
            assert_eq!(ranges.collect::<Vec<_>>().join(", "), wanted, "{allow:?} {deny:?}");
        }
        let server = Export::new(ExportId(9), "d/etc/vsftpd.conf", String::new());
        assert!(admitted(&ReadContext::default(), &server, "vsftpd").is_none());
    }

    #[test]
    fn lines_of_another_form() {
        let export = Export::new(ExportId(0), "d/etc/hosts.deny", "# all\nALL\nALL: ALL\n".into());
        assert_eq!(crate::recognise(&export).reader.map(|reader| reader.name), Some("hosts-access"));
        assert_eq!(read(&export, &ReadContext::default()).ledger.notes.len(), 1);
    }
}
