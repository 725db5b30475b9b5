//! Who may send mail to other domains without a login: the lists of restrictions in their order, for a client that has none.
//!
//! Format: postconf(5), `smtpd_relay_restrictions` and the other lists; access(5).

use super::settings::Scope;
use crate::addresses;
use crate::reader::ReadContext;
use ipnet::IpNet;
use std::net::IpAddr;
use trevlin_model::{Export, Family, IpRange, IpRangeSet, Origin};

/// The lists that a recipient has to pass, in their order.
pub(super) const LISTS: [&str; 5] = [
    "smtpd_client_restrictions",
    "smtpd_helo_restrictions",
    "smtpd_sender_restrictions",
    "smtpd_relay_restrictions",
    "smtpd_recipient_restrictions",
];

/// The lists of which one has to hold mail for other domains back.
const BARRIERS: [&str; 2] = ["smtpd_relay_restrictions", "smtpd_recipient_restrictions"];

/// Who may send mail to other domains without a login.
#[derive(Debug, Clone, Default)]
pub(super) struct Relaying {
    /// Addresses.
    pub(super) ranges: Vec<IpRange>,
    /// Clients by names.
    pub(super) names: Vec<String>,
    /// Lines that decide.
    pub(super) lines: Vec<Origin>,
    /// Files that are missing.
    pub(super) open: Vec<(String, Origin)>,
    /// Whether no list holds mail for other domains back, so that the server accepts none.
    pub(super) refuses: bool,
}

/// Works it out for one service.
pub(super) fn relaying(scope: &Scope<'_>, export: &Export, around: &ReadContext<'_>) -> Relaying {
    let mut evaluation = Evaluation { scope, export, around, found: Relaying::default(), barrier: false };
    let mut left = everybody();
    for name in LISTS {
        let (text, origin) = scope.get(name);
        let permitted = evaluation.list(&text, origin, BARRIERS.contains(&name));
        left = left.intersection(&permitted);
    }
    let mut found = evaluation.found;
    found.refuses = !evaluation.barrier;
    found.ranges = left.into_ranges();
    found.lines.dedup();
    if found.ranges.is_empty() {
        found.names.clear();
    }
    found
}

struct Evaluation<'s> {
    scope: &'s Scope<'s>,
    export: &'s Export,
    around: &'s ReadContext<'s>,
    found: Relaying,
    barrier: bool,
}

/// A list while it is evaluated: permitted clients, and those that later restrictions decide about.
struct State {
    permitted: IpRangeSet,
    left: IpRangeSet,
}

impl State {
    fn permit(&mut self, ranges: &[IpRange]) {
        let ranges: IpRangeSet = ranges.iter().copied().collect();
        self.permitted = self.permitted.union(&self.left.intersection(&ranges));
        self.left = self.left.without(&ranges);
    }

    fn reject(&mut self, ranges: &[IpRange]) {
        let ranges: IpRangeSet = ranges.iter().copied().collect();
        self.left = self.left.without(&ranges);
    }

    fn permit_all(&mut self) {
        self.permitted = self.permitted.union(&self.left);
        self.left = IpRangeSet::new();
    }
}

fn everybody() -> IpRangeSet {
    [IpRange::all(Family::V4), IpRange::all(Family::V6)].into_iter().collect()
}

impl Evaluation<'_> {
    fn list(&mut self, text: &str, origin: Option<Origin>, holds: bool) -> IpRangeSet {
        let mut state = State { permitted: IpRangeSet::new(), left: everybody() };
        self.words(text, origin, holds, &mut state, 8);
        if holds {
            self.found.lines.extend(origin);
        }
        // The end of a list permits.
        state.permit_all();
        state.permitted
    }

    fn words(&mut self, text: &str, origin: Option<Origin>, holds: bool, state: &mut State, depth: usize) {
        let mut words = text.split([' ', ',', '\t', '\n']).filter(|word| !word.is_empty());
        let mut warned = false;
        while let Some(word) = words.next() {
            let lower = word.to_ascii_lowercase();
            let takes = (lower.starts_with("check_")
                && (lower.ends_with("_access") || lower.ends_with("_service")))
                || lower.ends_with("_rbl_client")
                || lower.contains("_rhsbl_")
                || matches!(lower.as_str(), "permit_dnswl_client" | "permit_rhswl_client" | "sleep");
            let argument = if takes { words.next().unwrap_or_default() } else { "" };
            let only_warns = std::mem::take(&mut warned);
            match lower.as_str() {
                "warn_if_reject" => warned = true,
                "permit_mynetworks" => {
                    let networks = self.networks();
                    state.permit(&networks);
                }
                // What follows is ignored, also as what holds mail for other domains back.
                "permit" => {
                    state.permit_all();
                    return;
                }
                // Each client may call itself by an address.
                "permit_naked_ip_address" => state.permit_all(),
                "reject"
                | "defer"
                | "defer_if_permit"
                | "reject_unauth_destination"
                | "defer_unauth_destination"
                | "check_relay_domains"
                    if !only_warns =>
                {
                    self.barrier |= holds;
                    state.left = IpRangeSet::new();
                }
                "check_client_access" => self.clients(argument, origin, state),
                "check_sender_access" | "check_helo_access" | "check_ehlo_access"
                    if self.any_permits(argument, origin) =>
                {
                    state.permit_all();
                }
                _ => {
                    let (classes, _) = self.scope.get("smtpd_restriction_classes");
                    let is_class = classes.split([' ', ',']).any(|class| class == word);
                    if is_class && depth > 0 {
                        let (inner, at) = self.scope.get(word);
                        self.words(&inner, at.or(origin), holds, state, depth - 1);
                    }
                }
            }
        }
    }

    /// Addresses of `mynetworks`: the first entry that fits decides, and `!` takes out.
    fn networks(&mut self) -> Vec<IpRange> {
        let (text, origin) = self.scope.get("mynetworks");
        self.found.lines.extend(origin);
        if origin.is_none() {
            let (style, at) = self.scope.get("mynetworks_style");
            self.found.lines.extend(at);
            let name = match style.as_str() {
                "class" => Some("the classful networks of its addresses"),
                "subnet" => Some("the networks of its interfaces"),
                _ => None,
            };
            self.found.names.extend(name.map(str::to_owned));
            return vec![loopback(Family::V4), loopback(Family::V6)];
        }
        let (mut found, mut gone) = (IpRangeSet::new(), IpRangeSet::new());
        self.entries(&text, origin, &mut found, &mut gone, 4);
        found.into_ranges()
    }

    fn entries(
        &mut self,
        text: &str,
        origin: Option<Origin>,
        found: &mut IpRangeSet,
        gone: &mut IpRangeSet,
        depth: usize,
    ) {
        for word in text.split([' ', ',', '\t', '\n']).filter(|word| !word.is_empty()) {
            let (negated, entry) = word.strip_prefix('!').map_or((false, word), |rest| (true, rest));
            let bare = entry.replace(['[', ']'], "");
            if let Some(net) = addresses::net_of(&bare).map(|net| net.trunc()) {
                let own: IpRangeSet = [IpRange::from(net)].into_iter().collect();
                if negated {
                    *gone = gone.union(&own);
                } else {
                    *found = found.union(&own.without(gone));
                }
                continue;
            }
            // A file with entries, or a table with them as keys.
            let path = entry.rsplit_once(':').map_or(entry, |(_, path)| path);
            match self.around.find(path, self.export).filter(|_| depth > 0 && path.starts_with('/')) {
                Some(file) => {
                    for line in file.lines() {
                        let text = line.text.split('#').next().unwrap_or_default().trim();
                        let Some(key) = text.split_whitespace().next() else { continue };
                        self.found.lines.push(file.origin_of(text));
                        self.entries(key, Some(file.origin_of(text)), found, gone, depth - 1);
                    }
                }
                None => self.missing(path, origin),
            }
        }
    }

    fn missing(&mut self, path: &str, origin: Option<Origin>) {
        if let Some(origin) = origin.filter(|_| path.starts_with('/')) {
            let question =
                format!("Please provide `{path}`: it decides which clients may send mail to other domains.");
            if !self.found.open.iter().any(|(known, _)| *known == question) {
                self.found.open.push((question, origin));
            }
        }
    }

    /// The clients that a table permits, by address or by name (access(5)).
    fn clients(&mut self, table: &str, origin: Option<Origin>, state: &mut State) {
        let (kind, path) = table.split_once(':').unwrap_or(("", table));
        if kind == "static" {
            if permits(path) {
                state.permit_all();
            }
            return;
        }
        let Some(file) = self.around.find(path, self.export) else { return self.missing(path, origin) };
        for line in super::settings::logical(file) {
            let mut words = line.words();
            let (Some(key), Some(action)) = (words.next(), words.next()) else { continue };
            let place = file.origin_of(line.pieces[0]);
            let range = address_key(key);
            if permits(action) {
                match range {
                    Some(range) => {
                        self.found.lines.push(place);
                        state.permit(&[range]);
                    }
                    // Behind what is rejected anyway a name changes nothing.
                    None if !state.left.is_empty() => {
                        self.found.lines.push(place);
                        self.found.names.push(key.to_owned());
                    }
                    None => {}
                }
            } else if let Some(range) = range.filter(|_| is_rejection(action)) {
                state.reject(&[range]);
            }
        }
    }

    /// Whether a table about what the client says of itself permits anything: then each client may say it.
    fn any_permits(&mut self, table: &str, origin: Option<Origin>) -> bool {
        let (kind, path) = table.split_once(':').unwrap_or(("", table));
        if kind == "static" {
            return permits(path);
        }
        let Some(file) = self.around.find(path, self.export) else {
            self.missing(path, origin);
            return false;
        };
        for line in super::settings::logical(file) {
            if line.words().nth(1).is_some_and(permits) {
                self.found.lines.push(file.origin_of(line.pieces[0]));
                return true;
            }
        }
        false
    }
}

fn loopback(family: Family) -> IpRange {
    match family {
        Family::V4 => IpRange::from(IpNet::V4(ipnet::Ipv4Net::new_assert([127, 0, 0, 0].into(), 8))),
        Family::V6 => IpRange::from(IpAddr::from(std::net::Ipv6Addr::LOCALHOST)),
    }
}

/// `OK`, `permit`, a number, or a list of restrictions that begins so (access(5)).
fn permits(action: &str) -> bool {
    let action = action.trim_end_matches(',');
    action.eq_ignore_ascii_case("ok")
        || action.eq_ignore_ascii_case("permit")
        || action.eq_ignore_ascii_case("relay")
        || (!action.is_empty() && action.len() != 3 && action.bytes().all(|byte| byte.is_ascii_digit()))
}

fn is_rejection(action: &str) -> bool {
    let action = action.to_ascii_lowercase();
    action.starts_with("reject") || action.starts_with("defer") || action.starts_with(['4', '5'])
}

/// An address, a network, or the beginning of an address (access(5), HOST NAME/ADDRESS PATTERNS).
fn address_key(key: &str) -> Option<IpRange> {
    if let Some(net) = addresses::net_of(&key.replace(['[', ']'], "")).map(|net| net.trunc()) {
        return Some(IpRange::from(net));
    }
    let parts: Vec<u8> = key.split('.').map(|part| part.parse().ok()).collect::<Option<_>>()?;
    if parts.is_empty() || parts.len() > 3 {
        return None;
    }
    let octet = |at: usize| parts.get(at).copied().unwrap_or_default();
    let first = std::net::Ipv4Addr::new(octet(0), octet(1), octet(2), 0);
    let net = ipnet::Ipv4Net::new(first, 8 * parts.len() as u8).ok()?;
    Some(IpRange::from(IpNet::V4(net)))
}
