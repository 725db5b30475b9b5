//! Lists of `acl` lines: which requests fit each.

use crate::addresses;
use crate::keyed::Entries;
use crate::reader::ReadContext;
use crate::serving::{self, loopback};
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::served::Sources;
use trevlin_model::{Family, IpRange, IpRangeSet, Origin};

/// A list that a rule names.
#[derive(Debug, Clone, Default)]
pub(super) struct List {
    /// What fits it.
    pub(super) fits: Fits,
    /// Where it is not decided by the files.
    pub(super) open: bool,
}

/// Which requests fit a list.
#[derive(Debug, Clone)]
pub(super) enum Fits {
    /// Those of clients with these addresses.
    Clients(Sources),
    /// Those with one of these methods.
    Methods(Vec<String>),
    /// Those to one of these ports.
    Ports(Vec<(u16, u16)>),
    /// Those that came in at one of these ports of the proxy.
    OwnPorts(Vec<(u16, u16)>),
    /// Those that came in at one of the ports with these names.
    PortNames(Vec<String>),
    /// Those of clients with a login.
    Login,
    /// All, or none, of those to a server that no list names.
    Fixed(bool),
    /// Those at some times, or those whose client says so.
    Sometimes,
}

impl Default for Fits {
    fn default() -> Self {
        Self::Clients(Sources::default())
    }
}

/// Lists by name. Values of several lines of one name are alternatives.
pub(super) fn lists<'a>(
    entries: &Entries<'a>,
    around: &ReadContext<'a>,
    open: &mut Vec<(String, Origin)>,
) -> BTreeMap<&'a str, List> {
    let fixed = |fits| List { fits, open: false };
    let mut found: BTreeMap<&str, List> = BTreeMap::from([
        ("all", fixed(Fits::Clients(Sources::everybody()))),
        ("localhost", fixed(Fits::Clients(Sources::of(loopback().to_vec(), Vec::new())))),
        ("manager", fixed(Fits::Fixed(false))),
        ("to_localhost", fixed(Fits::Fixed(false))),
        ("to_linklocal", fixed(Fits::Fixed(false))),
        ("CONNECT", fixed(Fits::Methods(vec!["CONNECT".into()]))),
    ]);
    let mut named: BTreeSet<&str> = BTreeSet::new();
    for entry in entries.of("acl") {
        let mut words = entry.value.split_whitespace();
        let (Some(name), Some(kind)) = (words.next(), words.next()) else { continue };
        let mut values: Vec<String> = Vec::new();
        for word in words.filter(|word| !word.starts_with('-') || word.len() == 1) {
            if word.starts_with('#') {
                break;
            }
            match word.strip_prefix('"').map(|path| path.trim_end_matches('"')) {
                Some(path) => match around.find(path, entry.export) {
                    Some(file) => values.extend(serving::entries(file).map(str::to_owned)),
                    None => {
                        let note = format!("please provide `{path}`, the list `{name}`");
                        open.push((note, entry.origin));
                    }
                },
                None => values.push(word.to_owned()),
            }
        }
        let fits = fits(kind, &values, entry.origin);
        // Names of the program's own lists may be given again.
        let known = found.get_mut(name).filter(|_| named.contains(name));
        match known {
            Some(list) => list.fits.join(fits),
            None => {
                named.insert(name);
                found.insert(name, List { fits, open: kind == "external" });
            }
        }
    }
    // Every rule that names a list looks through it.
    for list in found.values_mut() {
        if let Fits::Clients(clients) = &mut list.fits {
            clients.ranges =
                std::mem::take(&mut clients.ranges).into_iter().collect::<IpRangeSet>().into_ranges();
            clients.names.sort_unstable();
            clients.names.dedup();
            clients.origins.truncate(super::super::MOST_LINES);
        }
    }
    found
}

impl Fits {
    /// Either of two.
    fn join(&mut self, other: Self) {
        match (self, other) {
            (Self::Clients(own), Self::Clients(other)) => {
                own.ranges.extend(other.ranges);
                own.names.extend(other.names);
                own.origins.extend(other.origins);
            }
            (Self::Methods(own), Self::Methods(other)) | (Self::PortNames(own), Self::PortNames(other)) => {
                own.extend(other);
            }
            (Self::Ports(own), Self::Ports(other)) | (Self::OwnPorts(own), Self::OwnPorts(other)) => {
                own.extend(other);
            }
            (Self::Fixed(own), Self::Fixed(other)) => *own |= other,
            _ => {}
        }
    }
}

fn fits(kind: &str, values: &[String], origin: Origin) -> Fits {
    let ports = || {
        let port = |word: &String| {
            let (first, last) = word.split_once('-').unwrap_or((word, word));
            Some((first.parse().ok()?, last.parse().ok()?))
        };
        values.iter().filter_map(port).collect()
    };
    let all = |word: &String| matches!(word.as_str(), "all" | "." | ".*" | "^" | "/" | "^.*$" | "^.*");
    match kind {
        "src" => Fits::Clients(clients(values, origin)),
        "method" => Fits::Methods(values.iter().map(|word| word.to_ascii_uppercase()).collect()),
        "port" => Fits::Ports(ports()),
        "localport" | "myport" => Fits::OwnPorts(ports()),
        "myportname" => Fits::PortNames(values.to_vec()),
        "proxy_auth" | "proxy_auth_regex" => Fits::Login,
        "proto" => Fits::Fixed(values.iter().any(|word| word.eq_ignore_ascii_case("http"))),
        "dst" => {
            let everywhere = |word: &String| {
                matches!(word.as_str(), "all" | "ipv4")
                    || network(word).is_some_and(super::super::is_everywhere)
            };
            Fits::Fixed(values.iter().any(everywhere))
        }
        "url_regex" | "urlpath_regex" | "dstdom_regex" => Fits::Fixed(values.iter().any(all)),
        // A client says these by itself, or they are given at some times.
        "time" | "browser" | "referer_regex" | "req_header" | "ident" | "ident_regex" | "random" => {
            Fits::Sometimes
        }
        _ => Fits::Fixed(false),
    }
}

/// An address, a network by a prefix or a mask, or a range of addresses, with a mask or without.
pub(super) fn network(word: &str) -> Option<IpRange> {
    let (first, mask) = word.split_once('/').map_or((word, None), |(first, mask)| (first, Some(mask)));
    let Some((first, last)) = first.split_once('-') else { return addresses::range_or_prefix(word) };
    let masked = |address: &str| match mask {
        Some(mask) => addresses::range_or_prefix(&format!("{address}/{mask}")),
        None => addresses::range_or_prefix(address),
    };
    IpRange::new(masked(first)?.first(), masked(last)?.last()).ok()
}

fn clients(values: &[String], origin: Origin) -> Sources {
    let mut sources = Sources { origins: vec![origin], ..Sources::default() };
    for word in values {
        match word.as_str() {
            "ipv4" => sources.ranges.push(IpRange::all(Family::V4)),
            "ipv6" => sources.ranges.push(IpRange::all(Family::V6)),
            word => match network(word) {
                Some(range) => sources.ranges.push(range),
                // The program rejects anything but addresses and names of hosts.
                None if is_host(word) => serving::host(word, &mut sources),
                None => {}
            },
        }
    }
    sources
}

/// Whether a word is the name of a host.
pub(super) fn is_host(word: &str) -> bool {
    let letter = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'.' | b'-');
    word.bytes().all(letter) && addresses::is_name(word)
}
