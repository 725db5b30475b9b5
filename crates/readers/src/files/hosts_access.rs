//! Lists of clients that daemons built with libwrap accept and refuse: `hosts.allow` and `hosts.deny` (hosts_access(5), hosts_options(5)).

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, entries, except};
use trevlin_model::served::Sources;
use trevlin_model::{Export, IpRangeSet, LineClass, Origin};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "hosts-access",
    title: "clients that daemons accept",
    manual: "hosts_access(5)",
    recognise: |export| match export.file_name() {
        "hosts.allow" | "hosts.deny" => Recognition::Name,
        _ => Recognition::No,
    },
    read: |export, _| read(export),
};

/// A line: daemons, clients, and whether an option makes it a denial.
struct Rule<'a> {
    daemons: Vec<&'a str>,
    clients: Vec<&'a str>,
    denies: bool,
    origin: Origin,
}

/// Fields, separated by colons outside of brackets, in which addresses of IPv6 stand.
fn fields(text: &str) -> Vec<&str> {
    let (mut found, mut start, mut inside) = (Vec::new(), 0, false);
    for (at, letter) in text.char_indices() {
        match letter {
            '[' => inside = true,
            ']' => inside = false,
            ':' if !inside => {
                found.push(text[start..at].trim());
                start = at + 1;
            }
            _ => {}
        }
    }
    found.push(text[start..].trim());
    found
}

fn words(text: &str) -> Vec<&str> {
    text.split([' ', '\t', ',']).filter(|word| !word.is_empty()).collect()
}

/// The line with its rule; no rule where the line has another form.
fn rules(export: &Export) -> impl Iterator<Item = (Origin, Option<Rule<'_>>)> {
    entries(export).map(|text| {
        let origin = export.origin_of(text);
        let rule = match fields(text).as_slice() {
            [daemons, clients, options @ ..] if !daemons.is_empty() && !clients.is_empty() => Some(Rule {
                daemons: words(daemons),
                clients: words(clients),
                denies: options.iter().any(|option| option.eq_ignore_ascii_case("deny")),
                origin,
            }),
            _ => None,
        };
        (origin, rule)
    })
}

fn read(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    for (origin, rule) in rules(export) {
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        match rule {
            Some(_) => book.understood(origin),
            None => {
                book.not_understood(origin, "expected `daemons : clients`, with options behind another colon")
            }
        }
    }
    reading
}

/// Clients that the lists of a device accept for a daemon: the first line that fits decides, `hosts.allow` before `hosts.deny`, and who is
/// on neither is accepted. None where neither list was exported.
pub(crate) fn admitted(around: &ReadContext<'_>, export: &Export, daemon: &str) -> Option<Sources> {
    let list = |path: &str| around.find(path, export);
    let (allow, deny) = (list("/etc/hosts.allow"), list("/etc/hosts.deny"));
    allow.or(deny)?;
    let lists = [(allow, false), (deny, true)].into_iter().filter_map(|(list, denies)| Some((list?, denies)));
    let all = lists.flat_map(|(list, denies)| rules(list).filter_map(move |(_, rule)| Some((rule?, denies))));
    let own = all.filter(|(rule, _)| means(&rule.daemons, daemon));
    let own = own.map(|(rule, denies)| (!denies && !rule.denies, clients(&rule.clients), rule.origin));
    let mut found = serving::first_match(own, false);
    found.ranges = found.ranges.into_iter().collect::<IpRangeSet>().into_ranges();
    if found.is_everybody() {
        found.origins.clear();
    }
    Some(found)
}

/// Whether a list means a daemon.
fn means(daemons: &[&str], daemon: &str) -> bool {
    let (meant, gone) = except(daemons);
    let has = |words: &[&str]| words.iter().any(|word| *word == "ALL" || *word == daemon);
    has(meant) && !has(gone)
}

/// Clients of a list. Names that have no dot are those of the local network.
fn clients(list: &[&str]) -> Sources {
    let of = |words: &[&str]| {
        let mut sources = Sources::default();
        for word in words {
            let word = word.trim_start_matches('[').replacen(']', "", 1);
            serving::host(&word, &mut sources);
        }
        sources
    };
    let (meant, gone) = except(list);
    of(meant).without(&of(gone).ranges)
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
        assert_eq!(read(&export).ledger.notes.len(), 1);
    }
}
