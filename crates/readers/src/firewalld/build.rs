//! Zones and policies as the chains that firewalld loads (its nftables backend).

use super::config::{Config, Element, Part, SHIPPED};
use crate::iptables::PROTOCOLS;
use std::net::IpAddr;
use trevlin_model::{
    Chain, ChainKind, ConnectionStates, ExportState, Families, Family, Filter, FilterFormat, Hook, IpRange,
    Match, MatchKind, Origin, PortRange, Protocol, Rule, Target, Translation, TranslationKind,
};

/// What firewalld would load.
pub(super) struct Built {
    pub(super) filters: Vec<Filter>,
    pub(super) notes: Vec<(Origin, String)>,
}

/// In which order the parts of a chain are asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Stage {
    Before(i32),
    Log,
    Deny,
    Allow,
    After(i32),
}

/// Rules with their stages.
type Staged = Vec<(Stage, Rule)>;

struct Builder<'a> {
    config: &'a Config,
    notes: Vec<(Origin, String)>,
    chains: Vec<Chain>,
}

fn plain(kind: MatchKind) -> Match {
    Match { negated: false, kind }
}

fn rule(matches: Vec<Match>, target: Target, origin: Origin) -> Rule {
    Rule { matches, target, logs: false, comment: None, packets: None, origin }
}

/// Builds the tables.
pub(super) fn build(config: &Config) -> Built {
    let mut builder = Builder { config, notes: Vec::new(), chains: Vec::new() };
    let Some(place) = config
        .zones
        .get(&config.default_zone)
        .or_else(|| config.zones.values().next())
        .map(|zone| zone.origin)
    else {
        return Built { filters: Vec::new(), notes: Vec::new() };
    };
    builder.all(place);
    let filter = Filter {
        families: Families::Both,
        format: FilterFormat::Firewalld,
        table: "firewalld".into(),
        state: ExportState::Stored,
        chains: builder.chains,
        sets: Vec::new(),
        complete: builder.notes.is_empty() && config.notes.is_empty(),
        origin: place,
    };
    Built { filters: vec![filter], notes: builder.notes }
}

impl Builder<'_> {
    fn chain(&mut self, name: String, rules: Vec<Rule>, origin: Origin) {
        let (kind, priority) = (ChainKind::Filter, 0);
        self.chains.push(Chain { name, hook: None, priority, kind, policy: None, rules, origin });
    }

    fn base(
        &mut self,
        name: &str,
        hook: Hook,
        priority: i32,
        kind: ChainKind,
        rules: Vec<Rule>,
        origin: Origin,
    ) {
        let policy = Some(Target::Accept);
        self.chains.push(Chain {
            name: name.into(),
            hook: Some(hook),
            priority,
            kind,
            policy,
            rules,
            origin,
        });
    }

    fn all(&mut self, place: Origin) {
        let jump = |name: &str| rule(Vec::new(), Target::Jump(name.into()), place);
        for (way, hook) in [("INPUT", Hook::Input), ("FORWARD", Hook::Forward)] {
            let states = ConnectionStates { established: true, related: true, ..ConnectionStates::default() };
            let invalid = ConnectionStates { invalid: true, ..ConnectionStates::default() };
            let dnat = ConnectionStates { dnat: true, ..ConnectionStates::default() };
            let mut rules = vec![
                rule(vec![plain(MatchKind::States(states))], Target::Accept, place),
                rule(vec![plain(MatchKind::States(dnat))], Target::Accept, place),
                rule(vec![plain(MatchKind::Entering("lo".into()))], Target::Accept, place),
                rule(vec![plain(MatchKind::States(invalid))], Target::Drop, place),
            ];
            if hook == Hook::Forward {
                // Addresses that tell a tunnel's end by an IPv4 address which nobody reaches (RFC 3964).
                let nets = RFC3964
                    .iter()
                    .filter_map(|net| net.parse::<ipnet::IpNet>().ok())
                    .map(IpRange::from)
                    .collect();
                let matches =
                    vec![plain(MatchKind::Version(Family::V6)), plain(MatchKind::Destination(nets))];
                rules.push(rule(matches, Target::Reject, place));
            }
            rules.push(jump(&format!("filter_{way}_ZONES")));
            rules.push(rule(Vec::new(), Target::Reject, place));
            self.base(&format!("filter_{way}"), hook, 10, ChainKind::Filter, rules, place);
        }
        self.dispatch("filter_INPUT_ZONES", "filter_IN_", place);
        self.dispatch("filter_FORWARD_ZONES", "filter_FWD_", place);
        self.base(
            "nat_PREROUTING",
            Hook::Prerouting,
            -90,
            ChainKind::Nat,
            vec![jump("nat_PREROUTING_ZONES")],
            place,
        );
        self.dispatch("nat_PREROUTING_ZONES", "nat_PRE_", place);
        let masquerading = self.masquerading();
        self.base("nat_POSTROUTING", Hook::Postrouting, 110, ChainKind::Nat, masquerading, place);
        self.policy_dispatch(place);
        let zones: Vec<Part> = self.active().into_iter().cloned().collect();
        for zone in &zones {
            self.zone(zone);
        }
        let policies = self.config.policies.clone();
        for policy in &policies {
            self.policy(policy);
        }
        self.neighbours(place);
    }

    /// Zones that something is bound to, and the default zone.
    fn active(&self) -> Vec<&Part> {
        let bound = |zone: &&Part| {
            zone.name == self.config.default_zone
                || zone.each("interface").next().is_some()
                || zone.each("source").next().is_some()
        };
        self.config.zones.values().filter(bound).collect()
    }

    /// What a zone is entered by, or left by: its interfaces and its addresses. Nothing for one that nothing is bound to.
    fn bindings(&mut self, zone: &str, leaving: bool) -> Vec<(Vec<Match>, Origin)> {
        let Some(part) = self.config.zones.get(zone) else { return Vec::new() };
        let mut all = Vec::new();
        for one in part.each("interface") {
            let name = one.get("name").to_owned();
            let kind = if leaving { MatchKind::Leaving(name) } else { MatchKind::Entering(name) };
            all.push((vec![plain(kind)], one.origin));
        }
        for one in part.each("source") {
            all.push((self.address(one, leaving), one.origin));
        }
        all
    }

    /// Addresses of an element: stated, of a set, or of hardware.
    fn address(&mut self, one: &Element, destination: bool) -> Vec<Match> {
        let negated = matches!(one.get("invert"), "yes" | "true" | "True");
        let side =
            |ranges| if destination { MatchKind::Destination(ranges) } else { MatchKind::Source(ranges) };
        let of = |text: &str| -> Option<IpRange> {
            if let Some((first, last)) = text.split_once('-') {
                return IpRange::new(first.parse().ok()?, last.parse().ok()?).ok();
            }
            let plain = text.parse::<IpAddr>().ok().map(IpRange::from);
            plain.or_else(|| {
                let (base, mask) = text.split_once('/')?;
                let base: IpAddr = base.parse().ok()?;
                let length =
                    mask.parse().ok().or_else(|| ipnet::ip_mask_to_prefix(mask.parse().ok()?).ok())?;
                Some(IpRange::from(ipnet::IpNet::new(base, length).ok()?.trunc()))
            })
        };
        let stated = one.get("address");
        if !stated.is_empty() {
            if let Some(range) = of(stated) {
                let version = plain(MatchKind::Version(range.family()));
                return vec![version, Match { negated, kind: side(vec![range]) }];
            }
            self.notes.push((one.origin, format!("`{stated}` is no address or network")));
        }
        let set = one.get("ipset");
        if let Some(entries) = self.config.sets.get(set) {
            let ranges: Option<Vec<IpRange>> = entries.iter().map(|entry| of(entry)).collect();
            if let Some(ranges) = ranges {
                let mut matches = vec![Match { negated, kind: side(ranges.clone()) }];
                // A set is of one IP version.
                if let Some(first) = ranges.first() {
                    matches.insert(0, plain(MatchKind::Version(first.family())));
                }
                return matches;
            }
        }
        let what = if set.is_empty() { format!("mac {}", one.get("mac")) } else { format!("set {set}") };
        vec![Match { negated, kind: MatchKind::NotModelled(what) }]
    }

    /// Which zone a packet is in: by its source first, then by its interface, else the default zone.
    fn dispatch(&mut self, name: &str, prefix: &str, place: Origin) {
        let zones: Vec<String> = self.active().iter().map(|zone| zone.name.clone()).collect();
        let (mut by_source, mut by_interface) = (Vec::new(), Vec::new());
        for zone in &zones {
            for (matches, origin) in self.bindings(zone, false) {
                let by_name = matches.iter().any(|one| matches!(one.kind, MatchKind::Entering(_)));
                let to = if by_name { &mut by_interface } else { &mut by_source };
                to.push(rule(matches, Target::Goto(format!("{prefix}{zone}")), origin));
            }
        }
        by_source.extend(by_interface);
        by_source.push(rule(
            Vec::new(),
            Target::Goto(format!("{prefix}{}", self.config.default_zone)),
            place,
        ));
        self.chain(name.into(), by_source, place);
    }

    /// Which policies a packet is under, by the zones it comes from and goes to; those before the zones and those behind.
    fn policy_dispatch(&mut self, place: Origin) {
        let mut policies = self.config.policies.clone();
        policies.sort_by(|a, b| (a.priority, &a.name).cmp(&(b.priority, &b.name)));
        for (way, stage) in [("INPUT", "pre"), ("INPUT", "post"), ("FORWARD", "pre"), ("FORWARD", "post")] {
            let mut rules = Vec::new();
            if (way, stage) == ("INPUT", "pre") {
                rules.push(rule(Vec::new(), Target::Jump("filter_IN_policy_allow-host-ipv6".into()), place));
            }
            for policy in policies.iter().filter(|one| (one.priority < 0) == (stage == "pre")) {
                self.policy_jumps(policy, way, &mut rules);
            }
            self.chain(format!("filter_{way}_POLICIES_{stage}"), rules, place);
        }
    }

    fn policy_jumps(&mut self, policy: &Part, way: &str, rules: &mut Vec<Rule>) {
        let names = |side: &str| policy.each(side).map(|one| one.get("name").to_owned()).collect::<Vec<_>>();
        let (from, to) = (names("ingress-zone"), names("egress-zone"));
        let to_host = to.iter().any(|zone| zone == "HOST");
        if to_host != (way == "INPUT") {
            return;
        }
        let prefix = if to_host { "filter_IN_policy_" } else { "filter_FWD_policy_" };
        for one in from.iter().filter(|zone| *zone != "HOST") {
            for other in &to {
                let entering =
                    if one == "ANY" { vec![(Vec::new(), policy.origin)] } else { self.bindings(one, false) };
                let leaving = match other.as_str() {
                    "ANY" | "HOST" => vec![(Vec::new(), policy.origin)],
                    zone => self.bindings(zone, true),
                };
                for (entering, origin) in &entering {
                    for (leaving, _) in &leaving {
                        let matches = entering.iter().chain(leaving).cloned().collect();
                        rules.push(rule(matches, Target::Jump(format!("{prefix}{}", policy.name)), *origin));
                    }
                }
            }
        }
    }

    /// What firewalld always lets in: how IPv6 hosts find each other.
    fn neighbours(&mut self, place: Origin) {
        let types = [136u8, 135, 134, 137].map(|kind| {
            let icmp = MatchKind::Icmp(vec![trevlin_model::IcmpRange::of_type(kind)]);
            rule(vec![plain(MatchKind::Protocol(Protocol::ICMPV6)), plain(icmp)], Target::Accept, place)
        });
        self.chain("filter_IN_policy_allow-host-ipv6".into(), types.into(), place);
    }

    fn masquerading(&mut self) -> Vec<Rule> {
        let mut rules = Vec::new();
        let zones: Vec<Part> = self.active().into_iter().cloned().collect();
        let not_lo = || Match { negated: true, kind: MatchKind::Leaving("lo".into()) };
        for zone in &zones {
            let Some(one) = zone.each("masquerade").next() else { continue };
            let bindings = self.bindings(&zone.name, true);
            for (matches, _) in bindings {
                let matches =
                    matches.into_iter().chain([plain(MatchKind::Version(Family::V4)), not_lo()]).collect();
                rules.push(rule(
                    matches,
                    Target::Translate(Translation::of(TranslationKind::Masquerade)),
                    one.origin,
                ));
            }
        }
        rules
    }

    fn zone(&mut self, zone: &Part) {
        let (mut input, mut forward, mut nat): (Staged, Staged, Staged) =
            (Vec::new(), Vec::new(), Vec::new());
        for one in &zone.elements {
            self.element(zone, one, true, &mut input, &mut forward, &mut nat);
        }
        let inverted = zone.each("icmp-block-inversion").next();
        for (way, name, staged) in [("INPUT", "filter_IN_", input), ("FORWARD", "filter_FWD_", forward)] {
            let jump = |stage: &str| {
                rule(Vec::new(), Target::Jump(format!("filter_{way}_POLICIES_{stage}")), zone.origin)
            };
            let mut rules = vec![jump("pre")];
            rules.extend(in_order(staged));
            rules.push(jump("post"));
            let icmp = || {
                let one = |protocol| vec![plain(MatchKind::Protocol(protocol))];
                vec![plain(MatchKind::AnyOf(vec![one(Protocol::ICMP), one(Protocol::ICMPV6)]))]
            };
            match zone.target.as_str() {
                "ACCEPT" => rules.push(rule(Vec::new(), Target::Accept, zone.origin)),
                "DROP" => rules.push(rule(Vec::new(), Target::Drop, zone.origin)),
                "%%REJECT%%" | "REJECT" => rules.push(rule(Vec::new(), Target::Reject, zone.origin)),
                _ => {
                    if way == "INPUT" && inverted.is_none() {
                        rules.push(rule(icmp(), Target::Accept, zone.origin));
                    }
                    rules.push(rule(Vec::new(), Target::Reject, zone.origin));
                }
            }
            self.chain(format!("{name}{}", zone.name), rules, zone.origin);
        }
        self.chain(format!("nat_PRE_{}", zone.name), in_order(nat), zone.origin);
    }

    fn policy(&mut self, policy: &Part) {
        let to_host = policy.each("egress-zone").any(|one| one.get("name") == "HOST");
        let (mut rules, mut unused, mut nat): (Staged, Staged, Staged) = (Vec::new(), Vec::new(), Vec::new());
        for one in &policy.elements {
            self.element(policy, one, false, &mut rules, &mut unused, &mut nat);
        }
        if let Some((_, first)) = nat.first() {
            self.notes
                .push((first.origin, "a forward in a policy is not followed; review it by hand".into()));
        }
        let mut rules = in_order(rules);
        match policy.target.as_str() {
            "ACCEPT" => rules.push(rule(Vec::new(), Target::Accept, policy.origin)),
            "DROP" => rules.push(rule(Vec::new(), Target::Drop, policy.origin)),
            "REJECT" => rules.push(rule(Vec::new(), Target::Reject, policy.origin)),
            _ => {}
        }
        let prefix = if to_host { "filter_IN_policy_" } else { "filter_FWD_policy_" };
        self.chain(format!("{prefix}{}", policy.name), rules, policy.origin);
    }

    /// One element of a zone or policy.
    fn element(
        &mut self,
        part: &Part,
        one: &Element,
        zone: bool,
        input: &mut Staged,
        forward: &mut Staged,
        nat: &mut Staged,
    ) {
        match one.name.as_str() {
            "service" | "port" | "protocol" | "source-port" => {
                for matches in self.service_like(one) {
                    input.push((Stage::Allow, rule(matches, Target::Accept, one.origin)));
                }
            }
            "icmp-block" => {
                let inverted = part.each("icmp-block-inversion").next().is_some();
                for matches in self.icmp(one) {
                    let target = if inverted { Target::Accept } else { Target::Reject };
                    let stage = if inverted { Stage::Allow } else { Stage::Deny };
                    input.push((stage, rule(matches, target, one.origin)));
                }
            }
            "forward" if zone => {
                for (matches, _) in self.bindings(&part.name, true) {
                    forward.push((Stage::Allow, rule(matches, Target::Accept, one.origin)));
                }
            }
            "forward-port" => nat.extend(self.forward_port(one, Vec::new()).map(|rule| (Stage::Allow, rule))),
            "rule" => self.rich(one, input, nat),
            _ => {}
        }
    }

    /// Conditions of a service, a port, a protocol or a source port; each list is one way to meet it.
    fn service_like(&mut self, one: &Element) -> Vec<Vec<Match>> {
        match one.name.as_str() {
            "service" => self.service(one.get("name"), one.origin, 0),
            "port" | "source-port" => {
                let text = format!(
                    "{}{}/{}",
                    if one.name == "port" { "" } else { "from " },
                    one.get("protocol"),
                    one.get("port")
                );
                self.words(&[text], one.origin, 0)
            }
            _ => self.words(&[one.get("value").to_owned()], one.origin, 0),
        }
    }

    fn service(&mut self, name: &str, origin: Origin, depth: usize) -> Vec<Vec<Match>> {
        if depth > 6 {
            return Vec::new();
        }
        if let Some(elements) = self.config.services.get(name) {
            let words: Vec<String> = elements
                .iter()
                .flat_map(|one| match one.name.as_str() {
                    "port" if one.get("port").is_empty() => vec![one.get("protocol").to_owned()],
                    "port" => vec![format!("{}/{}", one.get("protocol"), one.get("port"))],
                    "source-port" => vec![format!("from {}/{}", one.get("protocol"), one.get("port"))],
                    "protocol" => vec![one.get("value").to_owned()],
                    "include" => vec![format!("@{}", one.get("service"))],
                    "destination" => [("to4", "ipv4"), ("to6", "ipv6")]
                        .into_iter()
                        .filter(|(_, key)| !one.get(key).is_empty())
                        .map(|(word, key)| format!("{word} {}", one.get(key)))
                        .collect(),
                    _ => Vec::new(),
                })
                .collect();
            return self.words(&words, origin, depth);
        }
        match SHIPPED.service.get(name) {
            Some(words) => self.words(words, origin, depth),
            None => {
                let text = format!(
                    "the service `{name}` is not known here; export its file, /usr/lib/firewalld/services/{name}.xml"
                );
                self.notes.push((origin, text));
                Vec::new()
            }
        }
    }

    fn words(&mut self, words: &[String], origin: Origin, depth: usize) -> Vec<Vec<Match>> {
        let destination = |prefix: &str| {
            words.iter().find_map(|word| word.strip_prefix(prefix)).and_then(|text| {
                let net = text.parse::<ipnet::IpNet>().map(|net| IpRange::from(net.trunc()));
                net.ok().or_else(|| text.parse::<IpAddr>().ok().map(IpRange::from))
            })
        };
        let limits: Vec<IpRange> = [destination("to4 "), destination("to6 ")].into_iter().flatten().collect();
        let mut all = Vec::new();
        for word in words.iter().filter(|word| !word.starts_with("to4 ") && !word.starts_with("to6 ")) {
            if let Some(included) = word.strip_prefix('@') {
                all.extend(self.service(included, origin, depth + 1));
                continue;
            }
            let Some(conditions) = port_word(word) else {
                self.notes.push((origin, format!("`{word}` is no protocol and port, such as tcp/443")));
                continue;
            };
            if limits.is_empty() {
                all.push(conditions.clone());
            }
            for limit in &limits {
                let to =
                    [plain(MatchKind::Version(limit.family())), plain(MatchKind::Destination(vec![*limit]))];
                all.push(to.into_iter().chain(conditions.clone()).collect());
            }
        }
        all
    }

    /// An ICMP type, for each IP version that has it.
    fn icmp(&mut self, one: &Element) -> Vec<Vec<Match>> {
        let mut all = Vec::new();
        for (family, protocol) in [(Family::V4, Protocol::ICMP), (Family::V6, Protocol::ICMPV6)] {
            if let Some(range) = crate::icmp::range(one.get("name"), family) {
                all.push(vec![plain(MatchKind::Protocol(protocol)), plain(MatchKind::Icmp(vec![range]))]);
            }
        }
        if all.is_empty() {
            self.notes
                .push((one.origin, format!("`{}` is no ICMP type that is known here", one.get("name"))));
        }
        all
    }

    fn forward_port(&mut self, one: &Element, outer: Vec<Match>) -> Option<Rule> {
        let mut matches = outer;
        let Some(ports) = port_word(&format!("{}/{}", one.get("protocol"), one.get("port"))) else {
            self.notes.push((one.origin, "expected a protocol and a port to forward".into()));
            return None;
        };
        matches.extend(ports);
        let to = one.get("to-addr").parse::<IpAddr>().ok();
        let kind = if to.is_some() { TranslationKind::Destination } else { TranslationKind::Redirect };
        let mut translation = Translation::of(kind);
        translation.addresses = to.map(IpRange::from);
        translation.ports = ports_of(one.get("to-port"));
        let version = to.map_or(Family::V4, Family::of);
        let version = plain(MatchKind::Version(version));
        if !matches.contains(&version) {
            matches.insert(0, version);
        }
        Some(rule(matches, Target::Translate(translation), one.origin))
    }

    /// A rich rule.
    fn rich(&mut self, one: &Element, input: &mut Staged, nat: &mut Staged) {
        let mut outer = Vec::new();
        match one.get("family") {
            "ipv4" => outer.push(plain(MatchKind::Version(Family::V4))),
            "ipv6" => outer.push(plain(MatchKind::Version(Family::V6))),
            _ => {}
        }
        for (name, destination) in [("source", false), ("destination", true)] {
            if let Some(address) = one.child(name) {
                outer.extend(self.address(address, destination));
            }
        }
        let action = one
            .inner
            .iter()
            .find(|inner| matches!(inner.name.as_str(), "accept" | "reject" | "drop" | "mark"));
        let limited = |element: &Element| {
            element
                .child("limit")
                .map(|limit| plain(MatchKind::NotModelled(format!("limit {}", limit.get("value")))))
        };
        let mut ways: Vec<Vec<Match>> = Vec::new();
        let mut named = false;
        for inner in &one.inner {
            match inner.name.as_str() {
                "service" | "port" | "protocol" | "source-port" => ways.extend(self.service_like(inner)),
                "icmp-type" | "icmp-block" => ways.extend(self.icmp(inner)),
                "forward-port" => {
                    nat.extend(self.forward_port(inner, outer.clone()).map(|rule| (Stage::Allow, rule)))
                }
                "masquerade" => {
                    self.notes.push((inner.origin, "masquerading in a rich rule is not followed".into()));
                }
                _ => continue,
            }
            named = true;
        }
        if !named {
            ways.push(Vec::new());
        }
        let priority: i32 = one.get("priority").parse().unwrap_or(0);
        let stage = |own: Stage| match priority {
            0 => own,
            before if before < 0 => Stage::Before(before),
            after => Stage::After(after),
        };
        let logs = one.inner.iter().find(|inner| matches!(inner.name.as_str(), "log" | "nflog" | "audit"));
        for way in ways {
            let matches: Vec<Match> = outer.iter().cloned().chain(way).fold(Vec::new(), |mut all, one| {
                if !all.contains(&one) {
                    all.push(one);
                }
                all
            });
            if let Some(log) = logs {
                let matches = matches.iter().cloned().chain(limited(log)).collect();
                let mut line = rule(matches, Target::Log, log.origin);
                line.logs = true;
                input.push((stage(Stage::Log), line));
            }
            let blocks = one.inner.iter().any(|inner| inner.name == "icmp-block");
            let (target, own) = match action.map(|action| action.name.as_str()) {
                Some("accept") => (Target::Accept, Stage::Allow),
                Some("reject") => (Target::Reject, Stage::Deny),
                Some("drop") => (Target::Drop, Stage::Deny),
                Some(_) => (Target::NotModelled { name: "mark".into(), ends: false }, Stage::Allow),
                None if blocks => (Target::Reject, Stage::Deny),
                None => continue,
            };
            let matches = matches.into_iter().chain(action.and_then(limited)).collect();
            input.push((stage(own), rule(matches, target, one.origin)));
        }
    }
}

/// Networks whose IPv4 part nobody reaches (RFC 3964, 5.3.2).
const RFC3964: [&str; 9] = [
    "::/96",
    "::ffff:0.0.0.0/96",
    "2002::/24",
    "2002:a00::/24",
    "2002:7f00::/24",
    "2002:a9fe::/32",
    "2002:ac10::/28",
    "2002:c0a8::/32",
    "2002:e000::/19",
];

fn in_order(mut staged: Staged) -> Vec<Rule> {
    staged.sort_by_key(|(stage, _)| *stage);
    staged.into_iter().map(|(_, rule)| rule).collect()
}

/// `tcp/80`, `tcp/80-90`, `from udp/137`, or a protocol alone.
fn port_word(word: &str) -> Option<Vec<Match>> {
    let (source, word) = word.strip_prefix("from ").map_or((false, word), |rest| (true, rest));
    let (protocol, ports) =
        word.split_once('/').map_or((word, None), |(protocol, ports)| (protocol, Some(ports)));
    let number = protocol.parse().ok().or_else(|| PROTOCOLS.get(protocol).copied())?;
    let mut matches = vec![plain(MatchKind::Protocol(Protocol(Some(number))))];
    if let Some(ports) = ports {
        let ports = vec![ports_of(ports)?];
        matches.push(plain(if source {
            MatchKind::SourcePorts(ports)
        } else {
            MatchKind::DestinationPorts(ports)
        }));
    }
    Some(matches)
}

fn ports_of(text: &str) -> Option<PortRange> {
    let port = |text: &str| text.trim().parse().ok().or_else(|| crate::iptables::SERVICES.get(text).copied());
    let (first, last) = match text.split_once('-') {
        Some((first, last)) => (port(first)?, port(last)?),
        None => (port(text)?, port(text)?),
    };
    (first <= last).then_some(PortRange { first, last })
}
