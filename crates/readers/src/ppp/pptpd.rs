//! `pptpd.conf` of the PPTP daemon (pptpd.conf(5), pptpd(8)).
//!
//! Keywords begin at the start of a line; the first of several lines with one keyword wins; a line that begins with a blank is ignored; a
//! malformed address prevents the daemon from starting.

use crate::addresses;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use std::net::{IpAddr, Ipv4Addr};
use trevlin_model::plan::AddressPlan;
use trevlin_model::{
    Export, IpRange, LineClass, Listener, MalformedAddress, NotAnalysed, Origin, Pool, Protocol, Setting,
    Tunnel, TunnelFamily, TunnelRole,
};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "pptpd", title: "PPTP daemon configuration", manual: "pptpd.conf(5)", recognise, read };

/// Every keyword, and whether it becomes a fact.
const KEYWORDS: [(&str, bool); 15] = [
    ("bcrelay", false),
    ("connections", true),
    ("debug", false),
    ("delegate", true),
    ("listen", true),
    ("localip", true),
    ("logwtmp", false),
    ("noipparam", false),
    ("option", true),
    ("pidfile", false),
    ("ppp", false),
    ("remoteip", true),
    ("speed", false),
    ("stimeout", false),
    ("vrf", false),
];

const DAEMON: &str = "pptpd";
const MANUAL: &str = "pptpd.conf(5)";

/// Default local and remote addresses (pptpd 1.4).
const DEFAULT_REMOTE: (Ipv4Addr, Ipv4Addr) = (Ipv4Addr::new(192, 168, 1, 1), Ipv4Addr::new(192, 168, 1, 100));
const DEFAULT_CONNECTIONS: usize = 100;

/// Longest line the daemon reads, line end included; longer ones are ignored.
const LONGEST_LINE: usize = 510;

fn recognise(export: &Export) -> Recognition {
    let words = || {
        let effective = export
            .lines()
            .take(TELLING_LINES)
            .filter(|line| !line.text.trim().is_empty() && !line.text.starts_with('#'));
        effective.map(|line| line.text.split([' ', '\t']).next().unwrap_or_default())
    };
    // Prose about the daemon has these words too, among many others.
    let known = words().filter(|word| KEYWORDS.iter().any(|(known, _)| known == word)).count();
    if words().any(|word| matches!(word, "remoteip" | "localip")) && known * 2 >= words().count() {
        return Recognition::Content;
    }
    // Other files have this name as well; in this one at least something is a keyword.
    let fits = words().next().is_none()
        || words().any(|word| KEYWORDS.iter().any(|(known, _)| *known == word && word != "debug"));
    if export.file_name().starts_with("pptpd.conf") && fits { Recognition::Name } else { Recognition::No }
}

/// One statement.
struct Statement<'a> {
    keyword: &'a str,
    value: &'a str,
    origin: Origin,
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let statements = statements(export, &mut book);
    // A file without addresses is as shipped by packages: the daemon would assign its built-in ones, if it is started at all, which is not
    // known here.
    let set_up = |one: &&Statement<'_>| matches!(one.keyword, "remoteip" | "localip" | "listen" | "delegate");
    let first = statements.first().map(|one| one.origin);
    let (Some(first), Some(_)) = (first, statements.iter().find(set_up)) else {
        reading.facts.not_analysed.push(NotAnalysed {
            what: "a PPTP daemon configuration without addresses".into(),
            may_serve: Some(TunnelFamily::Pptp),
            filters_packets: false,
            apart: false,
            only_blocks: false,
            origin: first.unwrap_or_else(|| export.origin(0..0)),
        });
        return reading;
    };
    let find = |keyword: &str| statements.iter().find(|one| one.keyword == keyword);
    let stated = find("connections")
        .and_then(|one| Some((one.value.parse::<u32>().ok().filter(|count| *count > 0)?, one.origin)));
    let connections = stated.map_or(DEFAULT_CONNECTIONS, |(count, _)| count as usize);

    let mut refused = None;
    let listen = match find("listen") {
        None => Setting::default_of(None, DAEMON, MANUAL),
        Some(one) => match one.value.parse::<Ipv4Addr>() {
            Ok(address) if address.is_unspecified() => Setting::Stated { value: None, origin: one.origin },
            Ok(address) => Setting::Stated { value: Some(IpAddr::from(address)), origin: one.origin },
            Err(_) => Setting::Unknown { why: format!("`listen {}` is a host name", one.value) },
        },
    };
    let delegate = find("delegate").map(|one| one.origin);
    let mut pools = Vec::new();
    if delegate.is_none() {
        let local = find("localip").map(|one| list(export, one, connections, &mut book, &mut refused));
        let mut pool = Pool {
            server_addresses: local
                .map(|(ranges, _)| ranges.iter().map(|(range, _)| range.first()).collect())
                .unwrap_or_default(),
            placement: Setting::Unknown { why: "the ppp options decide".into() },
            ..Pool::new("PPTP server", first)
        };
        match find("remoteip") {
            Some(one) => {
                pool.origin = one.origin;
                (pool.ranges, pool.malformed) = list(export, one, connections, &mut book, &mut refused);
            }
            None => {
                let (from, to) = DEFAULT_REMOTE;
                pool.ranges =
                    IpRange::new(from.into(), to.into()).map(|range| (range, first)).into_iter().collect();
                pool.from_default = Some(MANUAL);
            }
        }
        pools.push(pool);
    }
    let stated_at = ["remoteip", "option", "listen"].iter().find_map(|keyword| find(keyword));
    let origin = stated_at.map_or(first, |one| one.origin);
    reading.facts.tunnels.push(Tunnel {
        refused,
        listeners: vec![Listener {
            protocol: Protocol::TCP,
            address: listen,
            // RFC 2637, 2.1.
            port: Setting::default_of(1723, DAEMON, "pptpd(8); RFC 2637, 2.1"),
        }],
        addresses: AddressPlan { pools, sessions: stated, ..AddressPlan::default() },
        options_file: Some(match find("option") {
            Some(one) => Setting::Stated { value: one.value.to_owned(), origin: one.origin },
            None => Setting::default_of("/etc/ppp/options".to_owned(), DAEMON, MANUAL),
        }),
        delegates_addresses: delegate,
        ..Tunnel::new("PPTP server", TunnelFamily::Pptp, TunnelRole::Server, origin)
    });
    reading
}

/// Statements in order, the first of each keyword only, as the daemon looks them up.
fn statements<'a>(export: &'a Export, book: &mut LineRecorder<'_>) -> Vec<Statement<'a>> {
    let mut found: Vec<Statement<'a>> = Vec::new();
    for line in export.lines() {
        let text = line.text.trim_end();
        let origin = export.origin_of(text);
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        if text.starts_with([' ', '\t']) {
            book.not_understood(
                origin,
                "the line begins with a space: the daemon ignores it; move it to the first column",
            );
            continue;
        }
        if line.text.len() >= LONGEST_LINE {
            book.not_understood(origin, format!("longer than {LONGEST_LINE} bytes: the daemon ignores it"));
            continue;
        }
        let (keyword, value) = text.split_once([' ', '\t']).unwrap_or((text, ""));
        match KEYWORDS.iter().find(|(known, _)| *known == keyword) {
            None => book.not_understood(origin, "not a keyword of pptpd.conf"),
            Some(_) if found.iter().any(|earlier| earlier.keyword == keyword) => {
                book.class(origin, LineClass::Ignored);
                book.note(origin, format!("`{keyword}` occurs earlier; the daemon uses the first"));
            }
            Some((_, fact)) => {
                book.class(origin, if *fact { LineClass::Understood } else { LineClass::Ignored });
                found.push(Statement { keyword, value: value.trim_start(), origin });
            }
        }
    }
    found
}

type Ranges = Vec<(IpRange, Origin)>;

/// An address list: single addresses and ranges in one of the four numbers, separated by commas.
/// The daemon stops counting at the number of connections.
fn list(
    export: &Export,
    statement: &Statement<'_>,
    connections: usize,
    book: &mut LineRecorder<'_>,
    refused: &mut Option<(String, Origin)>,
) -> (Ranges, Vec<MalformedAddress>) {
    let (mut ranges, mut malformed) = (Ranges::new(), Vec::new());
    let mut left = connections;
    for piece in statement.value.split(',').map(str::trim) {
        let origin = export.origin_of(piece);
        match segment(piece) {
            Ok(segments) => {
                for range in segments {
                    let taken = usize::try_from(range.size()).unwrap_or(usize::MAX).min(left);
                    left -= taken;
                    ranges.extend(first_of(range, taken).map(|range| (range, origin)));
                }
            }
            Err(why) => {
                book.not_understood(origin, why.clone());
                refused.get_or_insert((format!("{}: {why}", statement.keyword), origin));
                malformed.push(MalformedAddress { why, origin });
            }
        }
    }
    (ranges, malformed)
}

/// The first addresses of a range, up to this number.
fn first_of(range: IpRange, count: usize) -> Option<IpRange> {
    let IpAddr::V4(first) = range.first() else { return Some(range) };
    let last = first.to_bits().checked_add(u32::try_from(count.checked_sub(1)?).ok()?)?;
    IpRange::new(first.into(), Ipv4Addr::from_bits(last).into()).ok()
}

/// `10.4.0.9`, `10.4.0.9-20`, `10.4.0-3.9`: every address it describes, neighbours joined.
fn segment(text: &str) -> Result<Vec<IpRange>, String> {
    if text.is_empty() {
        return Err("an address is missing between commas".into());
    }
    if text.contains([' ', '\t', '#']) {
        return Err(format!("`{text}`: nothing may follow the addresses on this line, not even a comment"));
    }
    let parts: Vec<&str> = text.split('.').collect();
    if !text.contains('-') {
        return match text.parse::<Ipv4Addr>() {
            Ok(address) => Ok(vec![IpAddr::from(address).into()]),
            Err(_) => Err(addresses::what_is_wrong(text)),
        };
    }
    let [_, _, _, _] = parts.as_slice() else {
        return Err(match parts.len() {
            7 => format!(
                "`{text}`: the daemon expects a range as `first address-last number`, such as 10.4.0.9-20"
            ),
            _ => addresses::what_is_wrong(text.split('-').next().unwrap_or(text)),
        });
    };
    let mut numbers = [(0u8, 0u8); 4];
    let mut ranged = 0;
    for (number, part) in numbers.iter_mut().zip(&parts) {
        let (low, high) = part.split_once('-').unwrap_or((part, part));
        ranged += usize::from(part.contains('-'));
        let digits = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
        if !digits(low) || !digits(high) {
            return Err(format!("`{text}`: `{part}` is not a number or a range of numbers"));
        }
        let parse = |text: &str| {
            text.parse::<u8>()
                .map_err(|_| format!("`{text}` in `{parts}`: none may be over 255", parts = parts.join(".")))
        };
        *number = (parse(low)?, parse(high)?);
        if number.0 > number.1 {
            return Err(format!("`{text}` is a reversed range: {} is after {}", number.0, number.1));
        }
    }
    if ranged != 1 {
        return Err(format!("`{text}`: only one of the four numbers may be a range"));
    }
    let [a, b, c, d] = numbers;
    if d.0 != d.1 {
        let ends = (Ipv4Addr::new(a.0, b.0, c.0, d.0), Ipv4Addr::new(a.0, b.0, c.0, d.1));
        return IpRange::new(ends.0.into(), ends.1.into())
            .map(|range| vec![range])
            .map_err(|_| addresses::what_is_wrong(text));
    }
    let mut all = Vec::new();
    for a in a.0..=a.1 {
        for b in b.0..=b.1 {
            all.extend((c.0..=c.1).map(|c| IpRange::from(IpAddr::from([a, b, c, d.0]))));
        }
    }
    Ok(all)
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn tunnel(text: &str) -> (Option<Tunnel>, Reading) {
        let export = Export::new(ExportId(0), "d/etc/pptpd.conf", text.into());
        let mut reading = read(&export, &ReadContext::default());
        (reading.facts.tunnels.pop(), reading)
    }

    #[test]
    fn address_lists() {
        for (value, wanted) in [
            ("10.4.0.9", "10.4.0.9"),
            ("10.4.0.200-225", "10.4.0.200-10.4.0.225"),
            ("10.4.0.9,10.4.1.2-4", "10.4.0.9 10.4.1.2-10.4.1.4"),
            ("10.4.0-2.9", "10.4.0.9 10.4.1.9 10.4.2.9"),
            ("10.4.0.0-255", "10.4.0.0-10.4.0.99"),
            ("10.4.0.2.5", "!five numbers"),
            ("10.4.0.9-300", "!none may be over 255"),
            ("10.4.0.20-9", "!reversed range"),
            ("10.4.0.9-10.4.0.20", "!expects a range as"),
            ("10.4.0.9-20 # pool", "!not even a comment"),
            ("10.4.0-1.9-20", "!only one"),
            ("", "!missing"),
        ] {
            let (tunnel, _) = tunnel(&format!("remoteip {value}\nlocalip 10.4.0.1\n"));
            let tunnel = tunnel.unwrap();
            let pool = &tunnel.addresses.pools[0];
            let told = match pool.malformed.first() {
                Some(bad) => bad.why.clone(),
                None => pool.ranges.iter().map(|(range, _)| range.to_string()).collect::<Vec<_>>().join(" "),
            };
            match wanted.strip_prefix('!') {
                Some(part) => assert!(told.contains(part) && tunnel.refused.is_some(), "{value}: {told}"),
                None => assert_eq!(told, wanted, "{value}"),
            }
        }
    }

    #[test]
    fn the_first_statement_wins() {
        let (tunnel, reading) = tunnel("option /a\noption /b\n remoteip 10.4.0.9\nlisten 10.4.0.1\nfancy\n");
        let tunnel = tunnel.unwrap();
        assert_eq!(tunnel.options_file.unwrap().value().map(String::as_str), Some("/a"));
        assert_eq!(tunnel.addresses.pools[0].from_default, Some(MANUAL));
        assert_eq!(tunnel.listeners[0].address.value(), Some(&Some([10, 4, 0, 1].into())));
        assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 2);
    }

    #[test]
    fn delegated_addresses_are_no_pool() {
        let (tunnel, _) = tunnel("delegate\nremoteip 10.4.0.9-20\n");
        assert!(tunnel.unwrap().addresses.pools.is_empty());
    }

    #[test]
    fn only_comments_are_no_server() {
        for text in [
            "# remoteip 10.4.0.9\n#option /etc/ppp/pptpd-options\n",
            "option /etc/ppp/pptpd-options\nlogwtmp\n",
        ] {
            let (tunnel, reading) = tunnel(text);
            assert!(tunnel.is_none(), "{text}");
            assert_eq!(reading.facts.not_analysed.len(), 1, "{text}");
        }
    }

    #[test]
    fn other_files_of_this_name_are_not_claimed() {
        for (path, text, wanted) in [
            ("etc/pptpd.conf", "option /x\nlogwtmp\n", Recognition::Name),
            ("etc/pptpd.conf", "# nothing\n", Recognition::Name),
            ("etc/modules-load.d/pptpd.conf", "nf_conntrack_pptp\n", Recognition::No),
            ("x.txt", "remoteip 10.4.0.9\n", Recognition::Content),
            (
                "README",
                "This is about the\nremoteip keyword, which\nis like\nlocalip\nand more\n",
                Recognition::No,
            ),
        ] {
            assert_eq!(recognise(&Export::new(ExportId(0), path, text.into())), wanted, "{path} {text}");
        }
    }
}
