//! `ntp.conf` (ntp.conf(5) of ntpd and NTPsec): which clocks a device follows, who is answered, who may ask about its state.

use crate::addresses;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::serving::{self, is_known, words};
use trevlin_model::housekeeping::ClockKeeper;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, Family, IpRange, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "ntp", title: "time synchronisation (ntpd)", manual: "ntp.conf(5)", recognise, read };

fn recognise(export: &Export) -> Recognition {
    let tells = export.lines().take(TELLING_LINES).any(|line| {
        let text = line.text.trim_start();
        text.starts_with("restrict ")
            && (text.contains("default") || text.contains("noquery") || text.contains("nomodify"))
    });
    if tells {
        Recognition::Content
    } else if matches!(export.file_name(), "ntp.conf" | "ntpsec.conf") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// A line of `restrict`: the clients it applies to, and the restrictions.
struct Limit<'a> {
    ranges: Vec<IpRange>,
    flags: Vec<&'a str>,
    origin: Origin,
}

/// Lines with the files they read in, after those (ntp.conf(5), includefile); files that are not among the exports are named.
fn lines<'a>(
    export: &'a Export,
    around: &ReadContext<'a>,
    depth: usize,
    missing: &mut Vec<(String, Origin)>,
) -> Vec<(&'a str, Origin)> {
    let mut found = Vec::new();
    for line in export.lines() {
        let origin = export.origin_of(line.text.trim());
        found.push((line.text, origin));
        if let [name, path, ..] = words(line.text)[..]
            && name == "includefile"
        {
            let others = around.find_all(path, export);
            if others.is_empty() {
                missing.push((crate::reader::missing_note(path), origin));
            }
            // ntpd follows five nested files. Repeatedly included files are examined up to a limit.
            let once_more = |other: &&Export| depth < 5 && crate::growth::may_grow(16 * other.text().len());
            for other in others.into_iter().filter(once_more) {
                found.extend(lines(other, around, depth + 1, missing));
            }
        }
    }
    found
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut missing = Vec::new();
    let all = lines(export, around, 1, &mut missing);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut clocks = Vec::new();
    let mut limits: Vec<Limit<'_>> = Vec::new();
    let mut first = None;
    let mut closed: Option<Vec<Endpoint>> = None;
    for (text, origin) in all {
        let words = words(text);
        let Some((name, rest)) = words.split_first() else { continue };
        first.get_or_insert(origin);
        match *name {
            "server" | "pool" | "peer" | "refclock" => {
                book.understood(origin);
                let name = rest.iter().find(|word| !word.starts_with('-')).copied().unwrap_or_default();
                // The device's own clock is no source.
                if !name.starts_with("127.127.1.") {
                    clocks.push((name.to_owned(), origin));
                }
            }
            "restrict" => match limit(rest, origin) {
                Some(limit) => {
                    book.understood(origin);
                    limits.push(limit);
                }
                None => book.not_understood(
                    origin,
                    "expected `restrict default …` or `restrict ADDRESS [mask MASK] …`",
                ),
            },
            "includefile" => book.understood(origin),
            "interface" | "nic" => {
                book.understood(origin);
                if let ["listen", place] = rest
                    && let Ok(address) = place.parse()
                {
                    let at = Endpoint::everywhere(Protocol::UDP, 123, TransportSecurity::Plain, origin)
                        .at(address);
                    closed.get_or_insert_default().push(at);
                }
            }
            name if is_known("ntp", name) => book.class(origin, LineClass::Ignored),
            _ => book.not_understood(origin, serving::unknown("ntp.conf(5)")),
        }
    }
    let origin = first.unwrap_or_else(|| export.origin(0..0));
    reading.facts.clock_keepers.push(ClockKeeper {
        program: "ntpd",
        sources: clocks,
        open: missing.clone(),
        origin,
    });
    let mut served =
        Served::new(ServedKind::Time, "ntpd", "NTP server (ntpd)", &["ntp", "ntpd", "ntpsec"], origin);
    served.open = missing;
    served.endpoints = closed
        .unwrap_or_else(|| vec![Endpoint::everywhere(Protocol::UDP, 123, TransportSecurity::Plain, origin)]);
    let part = |name: &str, kept: &[&str], remark: Option<Remark>| {
        let mut part = ServiceResource::new(PartKind::Whole, name, origin);
        part.sources = left(&limits, kept);
        let line = part.sources.origins.first().copied().unwrap_or(origin);
        part.origin = line;
        part.login = Setting::Stated { value: AuthRequirement::Nothing, origin: line };
        part.remarks.extend(remark.map(|remark| (remark, line)));
        (!part.sources.is_nobody()).then_some(part)
    };
    served.parts.extend(part("the time", &["ignore", "noserve"], None));
    served.parts.extend(part("NTP status", &["ignore", "noquery"], Some(Remark::Status)));
    reading.facts.served.push(served);
    reading
}

fn limit<'a>(rest: &[&'a str], origin: Origin) -> Option<Limit<'a>> {
    let (mut families, mut rest) = (vec![Family::V4, Family::V6], rest);
    match rest.first() {
        Some(&"-4") => (families, rest) = (vec![Family::V4], &rest[1..]),
        Some(&"-6") => (families, rest) = (vec![Family::V6], &rest[1..]),
        _ => {}
    }
    let (who, mut rest) = rest.split_first()?;
    let mut ranges: Vec<IpRange> = match *who {
        "default" => families.iter().map(|family| IpRange::all(*family)).collect(),
        // Servers that it follows.
        "source" => Vec::new(),
        who => addresses::prefix(who).map(|net| net.into()).into_iter().collect(),
    };
    if let ["mask", mask, after @ ..] = rest {
        ranges = addresses::prefix(&format!("{who}/{mask}")).map(|net| net.into()).into_iter().collect();
        rest = after;
    }
    if ranges.is_empty() && *who != "source" && !addresses::is_name(who) {
        return None;
    }
    Some(Limit { ranges, flags: rest.to_vec(), origin })
}

/// Unrestricted clients: the most specific line decides, and without any line all clients are permitted.
fn left(limits: &[Limit<'_>], kept: &[&str]) -> Sources {
    let mut rules: Vec<(IpRange, &Limit<'_>)> =
        limits.iter().flat_map(|limit| limit.ranges.iter().map(move |range| (*range, limit))).collect();
    rules.sort_by_key(|(range, _)| range.size());
    let mut left = Sources::everybody();
    let mut found = Sources::default();
    for (range, limit) in rules {
        let closed = limit.flags.iter().any(|flag| kept.contains(flag));
        if !closed {
            found.ranges.extend(left.ranges.iter().filter_map(|one| one.intersection(&range)));
            found.origins.push(limit.origin);
        }
        left = left.without(&[range]);
    }
    if left.ranges.is_empty() {
        // The line that lets most in goes first.
        found.origins.reverse();
    } else {
        // Most are accepted without a matching line: the general line of the other IP version shows it.
        let whole =
            |limit: &&Limit<'_>| limit.ranges.iter().any(|range| *range == IpRange::all(range.family()));
        found.origins = limits.iter().filter(whole).map(|limit| limit.origin).collect();
    }
    found.ranges.extend(left.ranges);
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn who_is_answered() {
        for (text, wanted) in [
            ("server time.example\n", "the time: any address; NTP status: any address"),
            (
                "restrict default nomodify notrap nopeer noquery\nrestrict -6 default noquery\nrestrict 127.0.0.1\n",
                "the time: any address; NTP status: 127.0.0.1",
            ),
            (
                "restrict default ignore\nrestrict 10.4.0.0 mask 255.255.0.0 nomodify noquery\n",
                "the time: 10.4.0.0/16",
            ),
            ("restrict default ignore\n", ""),
            (
                "restrict -4 default ignore\nrestrict -6 default ignore\nrestrict 10.4.0.9\nrestrict source notrap\n",
                "the time: 10.4.0.9; NTP status: 10.4.0.9",
            ),
        ] {
            let export = Export::new(ExportId(0), "d/etc/ntp.conf", text.into());
            let reading = read(&export, &ReadContext::default());
            let told: Vec<String> = reading.facts.served[0]
                .parts
                .iter()
                .map(|one| format!("{}: {}", one.name, one.sources.words()))
                .collect();
            assert_eq!(told.join("; "), wanted, "{text}");
            assert!(reading.ledger.notes.is_empty(), "{text}");
        }
    }

    #[test]
    fn settings_of_a_reference_clock() {
        let text = "server 127.127.22.0 minpoll 4\nfudge 127.127.22.0 refid PPS flag3 1\nserver a.example\n";
        let export = Export::new(ExportId(0), "d/etc/ntp.conf", text.into());
        assert!(read(&export, &ReadContext::default()).ledger.notes.is_empty());
    }

    #[test]
    fn clocks_and_mistakes() {
        let text = "server 127.127.1.0\nserver time.example iburst\nrestrict 10.4.0\nwobble\ninterface listen 10.4.0.9\n";
        let export = Export::new(ExportId(0), "d/etc/ntp.conf", text.into());
        let reading = read(&export, &ReadContext::default());
        assert_eq!(reading.facts.clock_keepers[0].sources.len(), 1);
        assert_eq!(reading.ledger.notes.len(), 2);
        assert_eq!(reading.facts.served[0].endpoints[0].address, Some([10, 4, 0, 9].into()));
    }
}
