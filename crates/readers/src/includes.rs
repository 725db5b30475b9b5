//! Missing included files: reported for every format by one table, however its reader handles the line.

use crate::growth;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, missing_note};
use crate::settings;
use crate::starts;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::{Export, Gap, GapKind, Limit, Line};

trevlin_model::table! {
    /// Words that read in a file, by format.
    static INCLUDES: BTreeMap<String, Vec<String>> = "../tables/includes.toml";
}

/// Reads an export and reports missing included files.
pub fn read(reader: &Reader, export: &Export, around: &ReadContext<'_>) -> Reading {
    let (mut reading, exceeded) = growth::within(export, || (reader.read)(export, around));
    // Where a reader could say of which line, it did.
    if exceeded && !reading.ledger.cuts.iter().any(|cut| cut.limit == Limit::Expansion) {
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        book.cut(export.origin(0..0), Limit::Expansion, "lists are included in very many places");
    }
    if reading.waits {
        return reading;
    }
    let missing = missing(reader.name, export, around);
    let notes = if missing.is_empty() { &[][..] } else { &reading.ledger.notes };
    let mut noted: BTreeSet<u32> = notes.iter().map(|note| export.line_of(note.origin.start)).collect();
    for (line, path) in missing {
        let origin = export.origin_of(line.text);
        if noted.insert(line.number) {
            let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
            book.note(origin, missing_note(&path));
        }
        reading.ledger.gaps.push(Gap { kind: GapKind::Missing(path), origin });
    }
    for one in starts::named(reader, export, around) {
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        book.understood(one.origin);
        if one.missing {
            reading.ledger.gaps.push(Gap { kind: GapKind::Missing(one.path), origin: one.origin });
        }
    }
    settings::tell(reader.name, export, around, &mut reading);
    reading
}

/// Formats whose files read in others.
#[must_use]
pub fn including() -> Vec<&'static str> {
    INCLUDES.keys().map(String::as_str).collect()
}

/// Whether an included file is irrelevant, by its name: tables of types and of characters, statements for databases, and parameter lists for
/// other programs, as distributions ship them.
pub(crate) fn has_no_bearing(path: &str) -> bool {
    const NAMES: [&str; 9] = [
        "mime.types",
        "queries.conf",
        "fastcgi.conf",
        "fastcgi_params",
        "koi-utf",
        "koi-win",
        "scgi_params",
        "uwsgi_params",
        "win-utf",
    ];
    NAMES.contains(&path.rsplit('/').next().unwrap_or(path))
}

/// Lines that read in a file which no export of the device is, with its path.
fn missing<'a>(format: &str, export: &'a Export, around: &ReadContext<'_>) -> Vec<(Line<'a>, String)> {
    let Some(words) = INCLUDES.get(format) else { return Vec::new() };
    let lines = export.lines().filter_map(|line| Some((line, path(format, line.text, words)?)));
    // A pattern, a folder or a name made of values may well stand for nothing; what was there is missed.
    let one = |path: &String| !path.contains(['*', '?', '[', '$', '%', '{']) && !path.ends_with('/');
    let gone = |path: &String| match format {
        "pam" => around.find(&format!("/etc/pam.d/{path}"), export).is_none(),
        _ => around.find(path, export).is_none(),
    };
    let of_line = |(line, path): (Line<'a>, String)| -> Vec<(Line<'a>, String)> {
        if one(&path) {
            let missing = !has_no_bearing(&path) && gone(&path);
            return missing.then_some((line, path)).into_iter().collect();
        }
        let pattern = if path.ends_with('/') { format!("{path}*") } else { path };
        let there = around.find_unread(&pattern, export).into_iter();
        there.map(|path| (line, path.to_owned())).collect()
    };
    lines.flat_map(of_line).chain(of_folders(export, around)).collect()
}

/// Words that read in all files of a folder, or a file where there is one, in whatever format; they take a path as the others do.
const FOLDERS: [&str; 9] = [
    "includedir",
    "@includedir",
    "#includedir",
    "!includedir",
    "include_dir",
    "include_if_exists",
    "includeoptional",
    "conf-dir",
    "source-directory",
];

/// Files of such a folder that are there and could not be read.
fn of_folders<'a>(export: &'a Export, around: &ReadContext<'_>) -> Vec<(Line<'a>, String)> {
    if !around.has_unread() {
        return Vec::new();
    }
    let words = FOLDERS.map(str::to_owned);
    let named = export.lines().filter_map(|line| Some((line, path("", line.text, &words)?)));
    let found = named.flat_map(|(line, path)| {
        let path = path.split(',').next().unwrap_or_default().trim_end_matches('/');
        let mut there = around.find_unread(path, export);
        there.extend(around.find_unread(&format!("{path}/*"), export));
        there.into_iter().map(|path| (line, path.to_owned())).collect::<Vec<_>>()
    });
    found.collect()
}

/// Paths and patterns that the files of a device read in, each with the path of the file that has it.
pub(crate) struct Patterns(pub(crate) Vec<(String, String)>);

/// Those of all files of a device, in the notation of any format.
pub(crate) fn patterns(around: &ReadContext<'_>) -> Patterns {
    let folders = FOLDERS.map(str::to_owned);
    let words: BTreeSet<String> = INCLUDES.values().flatten().cloned().chain(folders).collect();
    let words: Vec<String> = words.into_iter().collect();
    let mut found = Vec::new();
    for (export, lines) in around.exports.iter().zip(around.including()) {
        let lines = lines.iter().filter_map(|number| export.line(*number));
        let named = lines.filter_map(|line| path("", line.text, &words));
        found.extend(named.map(|pattern| (pattern, export.path().to_owned())));
    }
    Patterns(found)
}

/// The path that a line reads in.
fn path(format: &str, line: &str, words: &[String]) -> Option<String> {
    let line = line.trim_start();
    let begins = |word: &String| line.get(..word.len()).is_some_and(|start| start.eq_ignore_ascii_case(word));
    if !words.iter().any(begins) {
        return None;
    }
    let first = line.find(|one: char| one.is_whitespace() || matches!(one, '=' | ':' | '"' | '\'' | '('));
    let first = &line[..first.unwrap_or(line.len())];
    // A bracketed list is reported by its first name.
    let call = line.get(..first.len() + 5).filter(|start| start.to_ascii_lowercase().ends_with("(file"));
    let word = call.unwrap_or(first);
    if !words.iter().any(|known| known.eq_ignore_ascii_case(word)) {
        return None;
    }
    let rest = line[word.len()..].trim_start_matches([' ', '\t', '=', ':', '(']);
    // Blocks and switches of the same name read in nothing.
    let quote = rest.chars().next().filter(|one| matches!(one, '"' | '\''));
    let path = match quote {
        Some(quote) => rest[1..].split(quote).next()?,
        None => rest.split(|one: char| one.is_whitespace() || matches!(one, ';' | ')' | '#')).next()?,
    };
    let path = path.trim_matches(['"', '\'', '<', '>']).trim_end_matches("?>");
    // Folder variables of a RADIUS server (radiusd.conf(5)).
    let path = path.rsplit_once('}').map_or(path, |(_, rest)| rest.trim_start_matches('/'));
    let path = if format == "ppp-options" && word.eq_ignore_ascii_case("call") {
        format!("/etc/ppp/peers/{path}")
    } else {
        path.to_owned()
    };
    (!path.is_empty()).then_some(path)
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn files_that_are_missing_are_told() {
        let mut tried = std::collections::BTreeSet::new();
        for (format, text, wanted) in [
            ("sshd", "Include /etc/ssh/more.conf\n", "/etc/ssh/more.conf"),
            ("sshd", "Include /etc/ssh/sshd_config.d/*.conf\n", ""),
            ("sshd", "#Include /etc/ssh/more.conf\n", ""),
            ("nginx", "http {\n  include mime.types;\n  include sites.conf;\n}\n", "sites.conf"),
            ("dhcpd", "include \"/etc/dhcp/more.conf\";\n", "/etc/dhcp/more.conf"),
            ("dnsmasq", "conf-file=/etc/x.conf\n", "/etc/x.conf"),
            ("kea", "{ \"Dhcp4\":\n<?include \"/etc/kea/x.json\"?>\n}\n", "/etc/kea/x.json"),
            ("pam", "@include common-auth\n", "common-auth"),
            ("radius", "$INCLUDE ${confdir}/clients.conf\n", "clients.conf"),
            ("radius", "$INCLUDE mods-enabled/\n", ""),
            (
                "rsyslog",
                "include(file=\"/etc/x.conf\")\n$IncludeConfig /etc/y.conf\n",
                "/etc/x.conf /etc/y.conf",
            ),
            ("smb", "[global]\n  include = /etc/samba/x.conf\n", "/etc/samba/x.conf"),
            ("sudoers", "@include /etc/sudoers.local\n#includedir /etc/sudoers.d\n", "/etc/sudoers.local"),
            ("unbound", "include: \"/etc/unbound/x.conf\"\n", "/etc/unbound/x.conf"),
            ("ppp-options", "call provider\nfile /etc/ppp/y\n", "/etc/ppp/peers/provider /etc/ppp/y"),
            ("inadyn", "include(\"/etc/x.conf\")\n", "/etc/x.conf"),
            ("swanctl", "include conf.d/x.conf\n", "conf.d/x.conf"),
            ("hostapd", "include = x\n", ""),
            ("apache", "Include conf/x.conf\nIncludeOptional conf/y.conf\n", "conf/x.conf"),
            ("chrony", "include /etc/x.conf\n", "/etc/x.conf"),
            ("ifupdown", "source /etc/network/y\nsource interfaces.d/*\n", "/etc/network/y"),
            ("ipsec-conf", "include /etc/y.conf\n", "/etc/y.conf"),
            ("ipsec-secrets", "include y.secrets\n", "y.secrets"),
            ("mariadb", "!include /etc/mysql/y.cnf\n!includedir /etc/mysql/conf.d/\n", "/etc/mysql/y.cnf"),
            ("named", "include \"/etc/bind/y.conf\";\n", "/etc/bind/y.conf"),
            ("nftables", "include \"./y.nft\"\n", "./y.nft"),
            ("ntp", "includefile /etc/ntp/y\n", "/etc/ntp/y"),
            ("openvpn", "config y.conf\n", "y.conf"),
            ("postgresql", "include 'y.conf'\ninclude_if_exists 'z.conf'\n", "y.conf"),
            ("proftpd", "Include /etc/proftpd/y.conf\n", "/etc/proftpd/y.conf"),
            ("radius-users", "$INCLUDE y\n", "y"),
            ("redis", "include /etc/y.conf\n", "/etc/y.conf"),
            ("rsyncd", "&include /etc/y.inc\n", "/etc/y.inc"),
            ("snmpd", "includeFile y.conf\n", "y.conf"),
            ("ssh-client", "Include y\n", "y"),
            ("strongswan-conf", "include y.conf\n", "y.conf"),
            ("stunnel", "include = /etc/stunnel/y.conf\n", "/etc/stunnel/y.conf"),
        ] {
            let export = Export::new(ExportId(0), "d/x", text.into());
            let around = ReadContext::of(vec![&export]);
            let found: Vec<String> = missing(format, &export, &around).into_iter().map(|one| one.1).collect();
            assert_eq!(found.join(" "), wanted, "{format}: {text}");
            tried.insert(format);
        }
        let silent: Vec<_> = including().into_iter().filter(|format| !tried.contains(format)).collect();
        assert!(silent.is_empty(), "no case says what is missing of {silent:?}");
        let export = Export::new(ExportId(0), "d/etc/ssh/sshd_config", "Include /etc/ssh/more.conf\n".into());
        let more = Export::new(ExportId(1), "d/etc/ssh/more.conf", "Port 22\n".into());
        assert!(missing("sshd", &export, &ReadContext::of(vec![&export, &more])).is_empty());
    }

    #[test]
    fn what_lies_there_unread_is_missed_where_it_would_be_read_in() {
        for (format, text, unread, wanted) in [
            ("sshd", "Include /etc/ssh/sshd_config.d/*.conf\n", "d/etc/ssh/sshd_config.d/a.conf", "a.conf"),
            ("sshd", "Include /etc/ssh/sshd_config.d/*.conf\n", "d/etc/ssh/sshd_config.d/a.conf.bak", ""),
            ("sshd", "Include /etc/ssh/sshd_config.d/*.conf\n", "d/etc/ssh/sshd_config.d/.a.conf", ""),
            (
                "nginx",
                "http {\n include /etc/nginx/conf.d/*.conf;\n}\n",
                "d/etc/nginx/conf.d/a.conf",
                "a.conf",
            ),
            ("sudoers", "@includedir /etc/sudoers.d\n", "d/etc/sudoers.d/a", "a"),
            ("sudoers", "#includedir /etc/sudoers.d\n", "d/etc/sudoers.d", "sudoers.d"),
            ("mariadb", "!includedir /etc/mysql/conf.d/\n", "d/etc/mysql/conf.d/a.cnf", "a.cnf"),
            ("dnsmasq", "conf-dir=/etc/dnsmasq.d/,*.conf\n", "d/etc/dnsmasq.d/a.conf", "a.conf"),
            (
                "apache",
                "IncludeOptional sites-enabled/*.conf\n",
                "d/etc/apache2/sites-enabled/a.conf",
                "a.conf",
            ),
            ("postgresql", "include_dir 'conf.d'\n", "d/etc/postgresql/conf.d/a.conf", "a.conf"),
            ("sshd", "Port 22\n", "d/etc/ssh/sshd_config.d/a.conf", ""),
        ] {
            let place = unread.rsplitn(3, '/').nth(2).expect("a folder in a folder");
            let export = Export::new(ExportId(0), format!("{place}/x"), text.into());
            let around = ReadContext::of(vec![&export]).with_unread(vec![unread.to_owned()]);
            let found: Vec<_> = missing(format, &export, &around).into_iter().map(|one| one.1).collect();
            let names: Vec<&str> = found.iter().filter_map(|path| path.rsplit('/').next()).collect();
            assert_eq!(names.join(" "), wanted, "{format}: {text}");
        }
    }

    #[test]
    fn formats_of_the_table_are_read() {
        for format in including() {
            assert!(crate::READERS.iter().any(|reader| reader.name == format), "{format}");
        }
    }
}
