//! Zones and policies as the chains that firewalld loads (its nftables backend).

use super::config::{Config, Element, Part};
use std::net::IpAddr;
use trevlin_model::{
    Chain, ChainKind, ConnectionStates, ExportState, Families, Family, Filter, FilterFormat, Hook, IpRange,
    Match, MatchKind, Origin, Protocol, Residual, Rule, Target, Translation, TranslationKind,
};

/// The configuration that firewalld would load.
pub(super) struct Built {
    pub(super) filters: Vec<Filter>,
    pub(super) notes: Vec<(Origin, String)>,
}

/// In which order the parts of a chain are asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Stage {
    Before(i32),
    Log,
    Deny,
    Allow,
    After(i32),
}

/// Rules with their stages.
pub(super) type Staged = Vec<(Stage, Rule)>;

pub(super) struct Builder<'a> {
    pub(super) config: &'a Config,
    pub(super) notes: Vec<(Origin, String)>,
    chains: Vec<Chain>,
}

pub(super) fn plain(kind: MatchKind) -> Match {
    Match { negated: false, kind }
}

pub(super) fn rule(matches: Vec<Match>, target: Target, origin: Origin) -> Rule {
    Rule { matches, target, logs: false, comment: None, packets: None, origin, looked_up_at: None }
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
        gaps_placed: false,
        additions: false,
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
                // Addresses of tunnel ends with an IPv4 address that is not routable (RFC 3964).
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

    /// Bindings of a zone, for ingress or egress: its interfaces and its addresses. Empty for an unbound zone.
    pub(super) fn bindings(&mut self, zone: &str, leaving: bool) -> Vec<(Vec<Match>, Origin)> {
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
    pub(super) fn address(&mut self, one: &Element, destination: bool) -> Vec<Match> {
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
            self.notes.push((one.origin, format!("`{stated}` is not an address or network")));
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
        vec![Match { negated, kind: MatchKind::NotAnalysed(Residual::described(what)) }]
    }

    /// Zone of a packet: by its source first, then by its interface, otherwise the default zone.
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
                        let matches: Vec<Match> = entering.iter().chain(leaving).cloned().collect();
                        // One for each pair of zones of each policy: beyond the limit it is left open, and reported.
                        if !crate::growth::may_make_rule(&matches) {
                            let why = "there are more pairs of zones and policies than are followed; the remaining ones are \
                                       left undetermined";
                            if self.notes.last().is_none_or(|(_, told)| told != why) {
                                self.notes.push((policy.origin, why.into()));
                            }
                            return;
                        }
                        rules.push(rule(matches, Target::Jump(format!("{prefix}{}", policy.name)), *origin));
                    }
                }
            }
        }
    }

    /// Traffic that firewalld always permits: IPv6 neighbour discovery.
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
            self.notes.push((
                first.origin,
                "a forward in a policy is not followed; please review it by hand".into(),
            ));
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
}

/// Networks whose embedded IPv4 address is not routable (RFC 3964, 5.3.2).
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
