//! Names in a rule base: zones, addresses and services, which may refer to one another. They are resolved once everything is read;
//! unresolved names are reported, and never replaced by a guess.

use super::rule::{OrderedRule, Word};
use super::service::{Service, services};
use super::take::nearest;
use super::usual;
use crate::making::{any_of, holds, known};
use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use trevlin_model::{
    IcmpRange, IpRange, Match, MatchKind, NamedSet, Note, Origin, PortRange, Protocol, Residual,
};

/// A zone: interfaces that are treated alike.
#[derive(Debug, Clone, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) struct Zone {
    /// Name.
    pub(crate) name: String,
    /// Its interfaces.
    pub(crate) interfaces: Vec<Word>,
    pub(crate) origin: Origin,
}

/// A name for addresses.
#[derive(Debug, Clone, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) struct AddressName {
    /// Name.
    pub(crate) name: String,
    /// Addresses, prefixes, ranges, and other names.
    pub(crate) addresses: Vec<Word>,
    pub(crate) origin: Origin,
}

/// A name for services.
#[derive(Debug, Clone, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) struct ServiceName {
    /// Name.
    pub(crate) name: String,
    /// Services: `tcp 443`, `udp 500-510`, `icmp 8`, `esp`, and other names.
    pub(crate) services: Vec<Word>,
    pub(crate) origin: Origin,
}

/// Meaning of a name: the elements it resolves to, and whether they are complete.
#[derive(Debug, Clone)]
struct Meaning<T> {
    /// In order, each once.
    all: Vec<T>,
    open: Option<String>,
    /// Names on the way.
    names: BTreeSet<String>,
}

impl<T: Ord + Clone> Meaning<T> {
    fn of(all: Vec<T>) -> Self {
        Self { all: in_order(all), open: None, names: BTreeSet::new() }
    }

    fn unknown(name: &str) -> Self {
        Self { open: Some(format!("the meaning of {name} is not known")), ..Self::of(Vec::new()) }
    }

    /// All of these together.
    fn together(parts: Vec<Self>) -> Self {
        let mut parts = parts.into_iter();
        let Some(mut whole) = parts.next() else { return Self::of(Vec::new()) };
        for part in parts {
            whole.all.extend(part.all);
            whole.open = whole.open.take().or(part.open);
            whole.names.extend(part.names);
        }
        Self { all: in_order(whole.all), ..whole }
    }
}

fn in_order<T: Ord>(mut all: Vec<T>) -> Vec<T> {
    all.sort_unstable();
    all.dedup();
    all
}

/// How deep names may lead to names.
const DEPTH: usize = 32;

/// Words that leave everything open.
const ANY: [&str; 3] = ["any", "all", "*"];

/// The defined names.
#[derive(Debug)]
struct Defined<'a> {
    zones: BTreeMap<&'a str, &'a Zone>,
    addresses: BTreeMap<&'a str, &'a AddressName>,
    services: BTreeMap<&'a str, &'a ServiceName>,
    interfaces: BTreeSet<&'a str>,
    address_list: &'a [AddressName],
    /// Whether services that are not defined have their usual meaning.
    by_hand: bool,
}

/// Names, their resolution so far, and errors in their use.
#[derive(Debug)]
pub(super) struct Names<'a> {
    defined: Arc<Defined<'a>>,
    used: BTreeMap<String, Vec<Origin>>,
    known_addresses: BTreeMap<&'a str, Meaning<IpRange>>,
    known_services: BTreeMap<&'a str, Meaning<Service>>,
    notes: Vec<Note>,
    told: BTreeSet<(Origin, String)>,
}

impl<'a> Names<'a> {
    pub(super) fn of(
        zones: &'a [Zone],
        addresses: &'a [AddressName],
        services: &'a [ServiceName],
        interfaces: &[&'a str],
        by_hand: bool,
    ) -> Self {
        let mut names = Self::for_defined(Arc::new(Defined {
            zones: zones.iter().map(|one| (one.name.as_str(), one)).collect(),
            addresses: addresses.iter().map(|one| (one.name.as_str(), one)).collect(),
            services: services.iter().map(|one| (one.name.as_str(), one)).collect(),
            interfaces: interfaces.iter().copied().collect(),
            address_list: addresses,
            by_hand,
        }));
        let zones = zones.iter().map(|one| (0, one.name.as_str(), one.origin));
        let addresses = addresses.iter().map(|one| (1, one.name.as_str(), one.origin));
        let services = services.iter().map(|one| (2, one.name.as_str(), one.origin));
        let mut seen = BTreeSet::new();
        for (kind, name, origin) in zones.chain(addresses).chain(services) {
            if !seen.insert((kind, name)) {
                names.note(origin, format!("`{name}` is defined twice; this definition counts"));
            }
        }
        names
    }

    fn for_defined(defined: Arc<Defined<'a>>) -> Self {
        Self {
            defined,
            used: BTreeMap::new(),
            known_addresses: BTreeMap::new(),
            known_services: BTreeMap::new(),
            notes: Vec::new(),
            told: BTreeSet::new(),
        }
    }

    /// The same names, for a parallel part of the work; the results are joined at the end.
    pub(super) fn apart(&self) -> Self {
        Self::for_defined(Arc::clone(&self.defined))
    }

    /// Adds what came of a later part of the work.
    pub(super) fn join(&mut self, part: Self) {
        for (name, places) in part.used {
            self.used.entry(name).or_default().extend(places);
        }
        part.notes.into_iter().for_each(|note| self.note(note.origin, note.text));
    }

    pub(super) fn note(&mut self, origin: Origin, text: String) {
        if self.told.insert((origin, text.clone())) {
            self.notes.push(Note { origin, text });
        }
    }

    /// Conditions of a rule, besides its zones.
    pub(super) fn conditions(&mut self, rule: &OrderedRule) -> Vec<Match> {
        let mut matches = self.addresses(&rule.sources, &MatchKind::Source, false);
        matches.extend(self.addresses(&rule.sources_except, &MatchKind::Source, true));
        matches.extend(self.addresses(&rule.destinations, &MatchKind::Destination, false));
        matches.extend(self.addresses(&rule.destinations_except, &MatchKind::Destination, true));
        matches.extend(self.services(&rule.services));
        if !rule.source_ports.is_empty() {
            // Ports without a protocol are those of TCP and UDP.
            if rule.services.is_empty() {
                let protocol = |one| vec![holds(MatchKind::Protocol(one))];
                matches.extend(any_of(vec![protocol(Protocol::TCP), protocol(Protocol::UDP)]));
            }
            matches.push(holds(MatchKind::SourcePorts(rule.source_ports.clone())));
        }
        if rule.established {
            matches.push(known());
        }
        let list =
            |words: &[Word]| words.iter().map(|(word, _)| word.as_str()).collect::<Vec<_>>().join(", ");
        if !rule.users.is_empty() {
            matches.push(holds(MatchKind::NotAnalysed(Residual::only_for(&list(&rule.users)))));
        }
        if !rule.inspection.is_empty() {
            matches.push(holds(MatchKind::NotAnalysed(Residual::only_after(&list(&rule.inspection)))));
        }
        matches.extend(
            rule.also
                .iter()
                .map(|(text, _)| holds(MatchKind::NotAnalysed(Residual::as_written(text.to_string())))),
        );
        matches
    }

    /// The condition that a packet enters or leaves by these zones and interfaces.
    pub(super) fn interfaces(&mut self, words: &[&Word], entering: bool) -> Vec<Match> {
        let make = |name: &str| {
            holds(if entering { MatchKind::Entering(name.into()) } else { MatchKind::Leaving(name.into()) })
        };
        if words.is_empty() || words.iter().any(|(word, _)| ANY.contains(&word.as_str())) {
            return Vec::new();
        }
        let mut found = BTreeSet::new();
        for (word, origin) in words {
            if let Some(zone) = self.defined.zones.get(word.as_str()) {
                found.extend(zone.interfaces.iter().map(|(name, _)| name.clone()));
                continue;
            }
            if !self.defined.interfaces.contains(word.as_str()) {
                let known: Vec<&str> =
                    self.defined.zones.keys().chain(&self.defined.interfaces).copied().collect();
                let hint = nearest(word, &known);
                self.note(*origin, format!("`{word}` is not a zone or interface of the device; {hint}"));
            }
            found.insert(word.clone());
        }
        let mut all: Vec<Match> = found.iter().map(|name| make(name)).collect();
        match all.len() {
            1 => all,
            _ => vec![holds(MatchKind::AnyOf(all.drain(..).map(|one| vec![one]).collect()))],
        }
    }

    /// The condition that an address is one of these.
    pub(super) fn addresses(
        &mut self,
        words: &[Word],
        make: &dyn Fn(Vec<IpRange>) -> MatchKind,
        negated: bool,
    ) -> Vec<Match> {
        if words.is_empty() || (!negated && words.iter().any(|(word, _)| ANY.contains(&word.as_str()))) {
            return Vec::new();
        }
        let mut parts = Vec::with_capacity(words.len());
        for word in words {
            let one = self.address(word, &mut Vec::new());
            for name in &one.names {
                self.used.entry(name.clone()).or_default().push(word.1);
            }
            parts.push(one);
        }
        conditions(Meaning::together(parts), make, negated)
    }

    /// Elements that a word resolves to. Each name is followed once, however many names refer to it.
    fn address(&mut self, word: &Word, within: &mut Vec<&'a str>) -> Meaning<IpRange> {
        let (text, origin) = word;
        if let Ok(range) = text.parse() {
            return Meaning::of(vec![range]);
        }
        let Some((name, one)) =
            self.defined.addresses.get_key_value(text.as_str()).map(|(name, one)| (*name, *one))
        else {
            // The name of a host has the addresses that DNS gives it.
            if is_host_name(text) {
                return Meaning::unknown(text);
            }
            let known: Vec<&str> = self.defined.addresses.keys().copied().collect();
            let hint = nearest(text, &known);
            self.note(*origin, format!("`{text}` is not an address, prefix, range, or name of one; {hint}"));
            return Meaning::unknown(text);
        };
        if let Some(known) = self.known_addresses.get(name) {
            return known.clone();
        }
        if self.leads_back(name, *origin, within) {
            return Meaning::unknown(name);
        }
        within.push(name);
        let parts = one.addresses.iter().map(|member| self.address(member, within)).collect();
        let mut meaning = Meaning::together(parts);
        meaning.names.insert(name.to_owned());
        within.pop();
        self.known_addresses.insert(name, meaning.clone());
        meaning
    }

    fn leads_back(&mut self, name: &str, origin: Origin, within: &[&str]) -> bool {
        if within.contains(&name) {
            self.note(origin, format!("`{name}` refers to itself: {} -> {name}", within.join(" -> ")));
            return true;
        }
        if within.len() >= DEPTH {
            self.note(
                origin,
                format!("names are nested more than {DEPTH} times; the remaining ones are left out"),
            );
        }
        within.len() >= DEPTH
    }

    /// Where a forward leads: an address or a name of one.
    pub(super) fn target(&mut self, word: &Word) -> Option<IpRange> {
        let meaning = self.address(word, &mut Vec::new());
        match meaning.all.len() {
            0 | 1 => meaning.all.first().copied(),
            _ => {
                self.note(
                    word.1,
                    format!("`{}` stands for several addresses; a forward has one target", word.0),
                );
                None
            }
        }
    }

    /// The condition that a packet is for one of these services.
    pub(super) fn services(&mut self, words: &[Word]) -> Vec<Match> {
        self.service_conditions(words, None)
    }

    /// The same at another port.
    pub(super) fn services_at(&mut self, words: &[Word], ports: PortRange) -> Vec<Match> {
        self.service_conditions(words, Some(ports))
    }

    fn service_conditions(&mut self, words: &[Word], at: Option<PortRange>) -> Vec<Match> {
        if words.is_empty() || words.iter().any(|(word, _)| ANY.contains(&word.as_str())) {
            return Vec::new();
        }
        let parts = words.iter().map(|word| self.service(word, &mut Vec::new())).collect();
        let mut meaning = Meaning::together(parts);
        if let Some(ports) = at {
            let moved = |one: Service| match one.ports.is_empty() {
                true => one,
                false => Service { ports: vec![ports], ..one },
            };
            meaning.all = in_order(meaning.all.into_iter().map(moved).collect());
        }
        joined(meaning)
    }

    fn service(&mut self, word: &Word, within: &mut Vec<&'a str>) -> Meaning<Service> {
        let (text, origin) = word;
        if let Some(all) = services(text) {
            return Meaning::of(all);
        }
        let Some((name, one)) =
            self.defined.services.get_key_value(text.as_str()).map(|(name, one)| (*name, *one))
        else {
            if let Some(usual) = usual::services(text).filter(|_| self.defined.by_hand) {
                return Meaning::of(usual.into_iter().filter_map(services).flatten().collect());
            }
            let known: Vec<&str> = self.defined.services.keys().copied().collect();
            let hint = nearest(text, &known);
            self.note(
                *origin,
                format!("`{text}` is not a service, such as `tcp 443`, or a name of one; {hint}"),
            );
            return Meaning::unknown(text);
        };
        if let Some(known) = self.known_services.get(name) {
            return known.clone();
        }
        if self.leads_back(name, *origin, within) {
            return Meaning::unknown(name);
        }
        within.push(name);
        let meaning =
            Meaning::together(one.services.iter().map(|member| self.service(member, within)).collect());
        within.pop();
        self.known_services.insert(name, meaning.clone());
        meaning
    }

    /// Every address name as a list, with the lines that use it; and the errors.
    pub(super) fn finish(self) -> (Vec<NamedSet>, Vec<Note>) {
        let set = |one: &AddressName| NamedSet {
            ranges: Vec::new(),
            name: one.name.clone(),
            filled_by_rules: false,
            elements: one.addresses.len(),
            present: true,
            used_at: self.used.get(&one.name).cloned().unwrap_or_default(),
            origin: one.origin,
        };
        (self.defined.address_list.iter().map(set).collect(), self.notes)
    }
}

/// A condition from the known and the unknown part of its names: a negated one that is not completely known may or may not match.
fn conditions(
    meaning: Meaning<IpRange>,
    make: &dyn Fn(Vec<IpRange>) -> MatchKind,
    negated: bool,
) -> Vec<Match> {
    // Nothing of it is known.
    if let (Some(why), true) = (&meaning.open, meaning.all.is_empty()) {
        return vec![holds(MatchKind::NotAnalysed(Residual::described(why.clone())))];
    }
    let known = Match { negated, kind: make(meaning.all) };
    match (meaning.open, negated) {
        (None, _) => vec![known],
        (Some(why), true) => vec![known, holds(MatchKind::NotAnalysed(Residual::described(why)))],
        (Some(why), false) => {
            let open = holds(MatchKind::NotAnalysed(Residual::described(why)));
            vec![holds(MatchKind::AnyOf(vec![vec![known], vec![open]]))]
        }
    }
}

/// Services as conditions: one where they share a protocol, otherwise alternatives.
fn joined(meaning: Meaning<Service>) -> Vec<Match> {
    let protocol = |one: &Service| holds(MatchKind::Protocol(one.protocol));
    let is_whole = |one: &&Service| one.icmp.is_none() && one.ports.is_empty();
    let mut lists: Vec<Vec<Match>> =
        meaning.all.iter().filter(is_whole).map(|one| vec![protocol(one)]).collect();
    let mut of_icmp = Vec::new();
    // They are in order of their protocols.
    for alike in meaning.all.chunk_by(|a, b| a.protocol == b.protocol) {
        let ports: Vec<PortRange> = alike.iter().flat_map(|one| one.ports.iter().copied()).collect();
        if !ports.is_empty() {
            lists.push(vec![protocol(&alike[0]), holds(MatchKind::DestinationPorts(ports))]);
        }
        let ranges: Vec<IcmpRange> = alike.iter().filter_map(|one| one.icmp).collect();
        if !ranges.is_empty() {
            of_icmp.push(vec![protocol(&alike[0]), holds(MatchKind::Icmp(ranges))]);
        }
    }
    lists.extend(of_icmp);
    lists.extend(meaning.open.map(|why| vec![holds(MatchKind::NotAnalysed(Residual::described(why)))]));
    any_of(lists)
}

/// Whether a text has the form of a host name with a domain (RFC 1123, 2.1).
fn is_host_name(text: &str) -> bool {
    let label = |one: &str| {
        !one.is_empty()
            && one.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-' || byte == b'_')
    };
    let labels: Vec<&str> = text.trim_end_matches('.').split('.').collect();
    let top =
        labels.last().is_some_and(|one| one.len() > 1 && one.bytes().all(|byte| byte.is_ascii_alphabetic()));
    let first = labels.first().is_some_and(|one| *one == "*" || label(one));
    labels.len() > 1 && top && first && labels[1..].iter().all(|one| label(one))
}
