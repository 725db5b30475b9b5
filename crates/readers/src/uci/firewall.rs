//! The package `firewall`, compiled to the ruleset that its firewall loads: one table `inet fw4` with a chain for each zone and
//! direction (OpenWrt, firewall4: ruleset.uc and fw4.uc).

use super::network::Networks;
use super::text::{Package, Said, Section};
use crate::icmp;
use crate::reader::Bookkeeper;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use trevlin_model::{
    Chain, ChainKind, ConnectionStates, ExportState, Families, Family, Filter, FilterFormat, Hook, IcmpRange,
    IpRange, Match, MatchKind, NotModelled, Origin, PortRange, Protocol, Rule, Target, Translation,
    TranslationKind,
};

/// What becomes of packets that nothing decides.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Verdict {
    Accept,
    Reject,
    Drop,
}

impl Verdict {
    fn parse(text: &str) -> Option<Self> {
        match text.to_ascii_lowercase().as_str() {
            "accept" => Some(Self::Accept),
            "reject" => Some(Self::Reject),
            "drop" => Some(Self::Drop),
            _ => None,
        }
    }

    fn word(self) -> &'static str {
        match self {
            Self::Accept => "accept",
            Self::Reject => "reject",
            Self::Drop => "drop",
        }
    }

    fn target(self) -> Target {
        match self {
            Self::Accept => Target::Accept,
            Self::Reject => Target::Jump("handle_reject".into()),
            Self::Drop => Target::Drop,
        }
    }
}

/// A verdict and the line that states it.
type Placed = (Verdict, Origin);

#[derive(Debug)]
struct Zone<'a> {
    name: &'a str,
    section: &'a Section,
    /// Conditions that a packet comes from the zone, each enough by itself, and that it goes there.
    from: Vec<Vec<Match>>,
    to: Vec<Vec<Match>>,
    input: Placed,
    output: Placed,
    forward: Placed,
    masks: Option<Origin>,
    masks_v6: Option<Origin>,
    logs: bool,
    /// Verdicts on packets for the zone that chains are needed for.
    wanted: BTreeSet<Verdict>,
    /// Whether ports are redirected for packets from it.
    redirects: bool,
}

/// Where a rule's packets come from or go to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum End<'a> {
    None,
    Any,
    Zone(&'a str),
}

struct Compiler<'a, 'b> {
    package: &'a Package,
    networks: &'b Networks,
    book: &'b mut Bookkeeper<'a>,
    not_modelled: Vec<NotModelled>,
    zones: Vec<Zone<'a>>,
    /// Rules by chain.
    rules: BTreeMap<String, Vec<Rule>>,
    sets: BTreeMap<&'a str, &'a Section>,
    set_uses: BTreeMap<String, Vec<Origin>>,
    defaults: Option<&'a Section>,
}

/// What came of the package.
pub(super) struct Compiled {
    pub(super) filter: Filter,
    pub(super) not_modelled: Vec<NotModelled>,
}

/// Compiles the package.
pub(super) fn compile<'a>(
    package: &'a Package,
    networks: &Networks,
    book: &mut Bookkeeper<'a>,
) -> Option<Compiled> {
    let first = package.sections.first()?.origin;
    let mut compiler = Compiler {
        package,
        networks,
        book,
        not_modelled: Vec::new(),
        zones: Vec::new(),
        rules: BTreeMap::new(),
        sets: BTreeMap::new(),
        set_uses: BTreeMap::new(),
        defaults: package.of("defaults").last(),
    };
    compiler.run();
    let chains = compiler.chains(first);
    let sets = compiler.named_sets();
    let filter = Filter {
        families: Families::Both,
        format: FilterFormat::Nftables,
        table: "fw4".into(),
        state: ExportState::Stored,
        chains,
        sets,
        complete: true,
        origin: first,
    };
    Some(Compiled { filter, not_modelled: compiler.not_modelled })
}

fn holds(kind: MatchKind) -> Match {
    Match { negated: false, kind }
}

fn open(what: impl Into<String>) -> Match {
    holds(MatchKind::NotModelled(what.into()))
}

fn rule(matches: Vec<Match>, target: Target, origin: Origin) -> Rule {
    Rule { matches, target, logs: false, comment: None, packets: None, origin }
}

/// One condition where any of several lists of conditions will do.
fn any_of(mut lists: Vec<Vec<Match>>) -> Vec<Match> {
    if lists.len() == 1 { lists.pop().unwrap_or_default() } else { vec![holds(MatchKind::AnyOf(lists))] }
}

impl<'a> Compiler<'a, '_> {
    fn run(&mut self) {
        for section in &self.package.sections {
            for (_, said) in &section.options {
                self.book.understood(said.line);
            }
            self.book.understood(section.origin);
            match section.kind.as_str() {
                "defaults" | "zone" | "rule" | "forwarding" | "redirect" | "nat" | "ipset" => {}
                "include" => self.include(section),
                _ => self.book.not_understood(
                    section.origin,
                    "no section of the firewall; expected defaults, zone, forwarding, rule, redirect, nat, ipset or include",
                ),
            }
        }
        for section in self.package.of("ipset").filter(|one| one.is_on("enabled") != Some(false)) {
            if let Some(name) = section.text("name") {
                self.sets.insert(name, section);
            }
        }
        let zones: Vec<Zone<'a>> = self.package.of("zone").filter_map(|section| self.zone(section)).collect();
        self.zones = zones;
        let on = |one: &&Section| one.is_on("enabled") != Some(false);
        for section in self.package.of("rule").filter(on) {
            self.rule(section);
        }
        for section in self.package.of("forwarding").filter(on) {
            self.forwarding(section);
        }
        for section in self.package.of("redirect").filter(on) {
            self.redirect(section);
        }
        for section in self.package.of("nat").filter(on) {
            self.nat(section);
        }
    }

    fn include(&mut self, section: &Section) {
        if section.is_on("enabled") == Some(false) {
            return;
        }
        let path = section.text("path").unwrap_or("a file");
        let what = format!("`{path}`, which the firewall reads in besides");
        self.not_modelled.push(NotModelled {
            what,
            filters_packets: true,
            apart: true,
            origin: section.whole(),
        });
    }

    /// A policy: its own line, else that of the defaults, else `DROP` (fw4.uc, parse_defaults).
    fn policy(&self, section: &Section, name: &str) -> Placed {
        let of = |section: &Section| {
            let said = section.get(name)?;
            Some((Verdict::parse(&said.text)?, said.line))
        };
        of(section).or_else(|| self.defaults.and_then(of)).unwrap_or((Verdict::Drop, section.origin))
    }

    fn zone(&mut self, section: &'a Section) -> Option<Zone<'a>> {
        let Some(name) = section.text("name") else {
            self.book
                .not_understood(section.origin, "this zone has no `name`, and the firewall leaves it out");
            return None;
        };
        if section.is_on("enabled") == Some(false) {
            return None;
        }
        let mut devices: Vec<String> = section.all("device").map(|(word, _)| word.to_owned()).collect();
        for (network, said) in section.all("network") {
            match self.networks.devices(network) {
                found if found.is_empty() => {
                    let text = format!(
                        "the package `network` has no interface `{network}` with a device, so no packet belongs to it"
                    );
                    self.book.note(said.line, text);
                }
                found => devices.extend(found),
            }
        }
        devices.sort();
        devices.dedup();
        let mut subnets: Vec<IpRange> = Vec::new();
        for (word, said) in section.all("subnet") {
            match self.address(word, said) {
                Some((false, range)) => subnets.push(range),
                _ => self.book.not_understood(
                    said.line,
                    format!("`{word}` is no prefix; expected one such as 10.4.0.0/24"),
                ),
            }
        }
        let ends = |make: fn(String) -> MatchKind, side: fn(Vec<IpRange>) -> MatchKind| -> Vec<Vec<Match>> {
            let nets = || (!subnets.is_empty()).then(|| holds(side(subnets.clone())));
            if devices.is_empty() {
                return nets().map(|net| vec![net]).into_iter().collect();
            }
            let one = |device: &String| {
                // A trailing asterisk or plus stands for any ending.
                let device =
                    device.strip_suffix('*').map_or_else(|| device.clone(), |stem| format!("{stem}+"));
                std::iter::once(holds(make(device))).chain(nets()).collect()
            };
            devices.iter().map(one).collect()
        };
        let masks = section.get("masq").filter(|_| section.is_on("masq") == Some(true)).map(|said| said.line);
        let masks_v6 =
            section.get("masq6").filter(|_| section.is_on("masq6") == Some(true)).map(|said| said.line);
        let (output, forward) = (self.policy(section, "output"), self.policy(section, "forward"));
        Some(Zone {
            name,
            section,
            from: ends(MatchKind::Entering, MatchKind::Source),
            to: ends(MatchKind::Leaving, MatchKind::Destination),
            input: self.policy(section, "input"),
            output,
            forward,
            masks,
            masks_v6,
            logs: section
                .text("log")
                .and_then(|text| text.parse::<u32>().ok())
                .is_some_and(|bits| bits & 1 == 1),
            wanted: BTreeSet::from([output.0, forward.0]),
            redirects: false,
        })
    }

    /// An address as options hold it: a prefix, an address with a mask, a range, or the name of a network; negated with `!`.
    fn address(&self, word: &str, _: &Said) -> Option<(bool, IpRange)> {
        let (negated, text) = word.strip_prefix('!').map_or((false, word), |rest| (true, rest.trim()));
        if let Ok(range) = text.parse::<IpRange>() {
            return Some((negated, range));
        }
        let (address, mask) = text.split_once('/')?;
        let address: IpAddr = address.parse().ok()?;
        let net = ipnet::IpNet::with_netmask(address, mask.parse().ok()?).ok()?;
        Some((negated, IpRange::from(net)))
    }

    fn end(&mut self, section: &Section, option: &str) -> Option<End<'a>> {
        let Some(said) = section.get(option) else { return Some(End::None) };
        if said.text == "*" {
            return Some(End::Any);
        }
        let known = self.zones.iter().find(|zone| zone.name == said.text).map(|zone| zone.name);
        if known.is_none() {
            let names: Vec<&str> = self.zones.iter().map(|zone| zone.name).collect();
            let hint = crate::sheet::take::nearest(&said.text, &names);
            let text =
                format!("there is no zone `{}`, so the firewall leaves this section out; {hint}", said.text);
            self.book.not_understood(said.line, text);
        }
        known.map(End::Zone)
    }

    /// Conditions that rules, redirects and translations share.
    fn conditions(&mut self, section: &Section, sides: [(&str, &str); 2]) -> Option<Vec<Match>> {
        let mut matches = Vec::new();
        match section.text("family") {
            Some("ipv4") => matches.push(holds(MatchKind::Version(Family::V4))),
            Some("ipv6") => matches.push(holds(MatchKind::Version(Family::V6))),
            _ => {}
        }
        for ((option, _), make) in sides
            .into_iter()
            .zip([MatchKind::Source as fn(Vec<IpRange>) -> MatchKind, MatchKind::Destination])
        {
            matches.extend(self.addresses(section, option, make)?);
        }
        matches.extend(self.protocols(section, sides)?);
        if let Some(said) = section.get("ipset") {
            matches.push(self.set(said));
        }
        for (option, what) in [
            ("src_mac", "the hardware address of the sender"),
            ("mark", "a mark of the packet"),
            ("dscp", "the class of service"),
            ("helper", "a helper for a protocol"),
            ("limit", "how many packets came before"),
            ("extra", "conditions that are written out"),
            ("weekdays", "the day of the week"),
            ("monthdays", "the day of the month"),
            ("start_time", "the time of day"),
            ("stop_time", "the time of day"),
            ("start_date", "the date"),
            ("stop_date", "the date"),
        ] {
            if section.get(option).is_some() {
                matches.push(open(what));
            }
        }
        if let Some(device) = section.text("device") {
            let leaving = section.text("direction") == Some("out");
            matches.push(holds(if leaving {
                MatchKind::Leaving(device.into())
            } else {
                MatchKind::Entering(device.into())
            }));
        }
        Some(matches)
    }

    fn addresses(
        &mut self,
        section: &Section,
        option: &str,
        make: fn(Vec<IpRange>) -> MatchKind,
    ) -> Option<Vec<Match>> {
        let (mut wanted, mut unwanted) = (Vec::new(), Vec::new());
        for (word, said) in section.all(option) {
            match self.address(word, said) {
                Some((true, range)) => unwanted.push(range),
                Some((false, range)) => wanted.push(range),
                None => {
                    // The name of a network stands for its addresses (fw4.uc, parse_subnet).
                    let nets = self.networks.subnets(word);
                    if nets.is_empty() {
                        let text = format!(
                            "`{word}` is no address, prefix, range or network; the firewall leaves this section out"
                        );
                        self.book.not_understood(said.line, text);
                        return None;
                    }
                    wanted.extend(nets);
                }
            }
        }
        let mut matches = Vec::new();
        if !wanted.is_empty() {
            matches.push(holds(make(wanted)));
        }
        if !unwanted.is_empty() {
            matches.push(Match { negated: true, kind: make(unwanted) });
        }
        Some(matches)
    }

    /// Protocols, TCP and UDP where none is said, with ports for those that have them and types for ICMP.
    fn protocols(&mut self, section: &Section, sides: [(&str, &str); 2]) -> Option<Vec<Match>> {
        let mut names: Vec<(String, Origin)> =
            section.all("proto").map(|(word, said)| (word.to_ascii_lowercase(), said.line)).collect();
        if names.is_empty() {
            names.push(("tcpudp".into(), section.origin));
        }
        let [source, destination] = sides.map(|(_, option)| option);
        let source = self.ports(section, source, MatchKind::SourcePorts)?;
        let destination = self.ports(section, destination, MatchKind::DestinationPorts)?;
        let ports: Vec<Match> = source.into_iter().chain(destination).collect();
        let types = self.icmp_types(section)?;
        let mut lists = Vec::new();
        for (name, line) in names {
            let protocols = match name.as_str() {
                "all" | "any" | "*" => return Some(Vec::new()),
                "tcpudp" => vec![Protocol::TCP, Protocol::UDP],
                "icmp" if section.text("family") == Some("ipv6") => vec![Protocol::ICMPV6],
                "icmp" => vec![Protocol::ICMP, Protocol::ICMPV6],
                "icmpv6" | "ipv6-icmp" => vec![Protocol::ICMPV6],
                other => match other.parse::<Protocol>().ok().or_else(|| named_protocol(other)) {
                    Some(protocol) => vec![protocol],
                    None => {
                        self.book
                            .not_understood(line, format!("`{other}` is no protocol that is known here"));
                        lists.push(vec![open(format!("the protocol {other}"))]);
                        continue;
                    }
                },
            };
            for protocol in protocols {
                let mut list = vec![holds(MatchKind::Protocol(protocol))];
                if matches!(protocol, Protocol::TCP | Protocol::UDP) {
                    list.extend(ports.iter().cloned());
                }
                let version = match protocol {
                    Protocol::ICMP => Some(Family::V4),
                    Protocol::ICMPV6 => Some(Family::V6),
                    _ => None,
                };
                if let (Some(version), false) = (version, types.is_empty()) {
                    let own: Vec<IcmpRange> = types
                        .iter()
                        .filter(|(family, _)| *family == version)
                        .map(|(_, range)| *range)
                        .collect();
                    // A type that only the other version has leaves nothing of this one.
                    if own.is_empty() {
                        continue;
                    }
                    list.push(holds(MatchKind::Icmp(own)));
                }
                lists.push(list);
            }
        }
        Some(any_of(lists))
    }

    fn ports(
        &mut self,
        section: &Section,
        option: &str,
        make: fn(Vec<PortRange>) -> MatchKind,
    ) -> Option<Option<Match>> {
        let (mut wanted, mut negated) = (Vec::new(), false);
        for (word, said) in section.all(option) {
            let (not, text) = word.strip_prefix('!').map_or((false, word), |rest| (true, rest));
            negated |= not;
            match text.replace(':', "-").parse::<PortRange>() {
                Ok(ports) => wanted.push(ports),
                Err(()) => {
                    let text = format!(
                        "`{word}` is no port or range of ports; the firewall leaves this section out"
                    );
                    self.book.not_understood(said.line, text);
                    return None;
                }
            }
        }
        Some((!wanted.is_empty()).then(|| Match { negated, kind: make(wanted) }))
    }

    fn icmp_types(&mut self, section: &Section) -> Option<Vec<(Family, IcmpRange)>> {
        let mut found = Vec::new();
        for (word, said) in section.all("icmp_type") {
            let mut known = false;
            for family in [Family::V4, Family::V6] {
                if let Some(range) = icmp::range(word, family) {
                    found.push((family, range));
                    known = true;
                }
            }
            if !known {
                self.book
                    .not_understood(said.line, format!("`{word}` is no type of ICMP that is known here"));
                return None;
            }
        }
        Some(found)
    }

    /// The condition that an address is on a list.
    fn set(&mut self, said: &Said) -> Match {
        let (negated, text) =
            said.text.strip_prefix('!').map_or((false, said.text.as_str()), |rest| (true, rest));
        let mut words = text.split_whitespace();
        let name = words.next().unwrap_or_default();
        self.set_uses.entry(name.to_owned()).or_default().push(said.line);
        let Some(section) = self.sets.get(name).copied() else {
            return open(format!("the list {name}, which is not here"));
        };
        let direction = words.next().map(str::to_owned).or_else(|| {
            let first = section.all("match").next()?.0.to_owned();
            Some(first)
        });
        let by = direction.unwrap_or_default();
        let single = section.all("match").count() <= 1
            && !by.contains("mac")
            && !by.contains("port")
            && !by.contains("set");
        let ranges: Option<Vec<IpRange>> = section.all("entry").map(|(word, _)| word.parse().ok()).collect();
        match ranges {
            Some(ranges) if single && section.get("loadfile").is_none() => {
                let kind = if by.starts_with("dest") || by.starts_with("dst") {
                    MatchKind::Destination(ranges)
                } else {
                    MatchKind::Source(ranges)
                };
                Match { negated, kind }
            }
            _ => open(format!("the list {name}")),
        }
    }

    fn named_sets(&self) -> Vec<trevlin_model::NamedSet> {
        let one = |(name, section): (&&str, &&Section)| trevlin_model::NamedSet {
            name: (*name).to_owned(),
            filled_by_rules: section.get("loadfile").is_some(),
            elements: section.all("entry").count(),
            present: section.get("loadfile").is_none(),
            used_at: self.set_uses.get(*name).cloned().unwrap_or_default(),
            origin: section.whole(),
        };
        let known = self.sets.iter().map(one);
        let missing = self.set_uses.iter().filter(|(name, _)| !self.sets.contains_key(name.as_str()));
        let missing = missing.filter_map(|(name, used)| {
            Some(trevlin_model::NamedSet {
                name: name.clone(),
                filled_by_rules: false,
                elements: 0,
                present: false,
                used_at: used.clone(),
                origin: *used.first()?,
            })
        });
        known.chain(missing).collect()
    }

    fn add(&mut self, chain: &str, mut one: Rule, section: &Section) {
        one.comment = section.text("name").map(str::to_owned);
        one.logs |= section
            .get("log")
            .is_some_and(|said| !matches!(said.text.as_str(), "0" | "false" | "no" | "off"));
        self.rules.entry(chain.to_owned()).or_default().push(one);
    }

    fn rule(&mut self, section: &'a Section) {
        let (Some(from), Some(to)) = (self.end(section, "src"), self.end(section, "dest")) else { return };
        let Some(matches) = self.conditions(section, [("src_ip", "src_port"), ("dest_ip", "dest_port")])
        else {
            return;
        };
        let word = section.text("target").unwrap_or("DROP").to_ascii_uppercase();
        let verdict = Verdict::parse(&word);
        let origin = section.whole();
        let (chain, target) = match (from, to) {
            (End::None, End::None | End::Any) => ("output".to_owned(), verdict.map(Verdict::target)),
            (End::None, End::Zone(to)) => (format!("output_{to}"), verdict.map(Verdict::target)),
            (End::Any, End::None) => ("input".to_owned(), verdict.map(Verdict::target)),
            (End::Zone(from), End::None) => (format!("input_{from}"), verdict.map(Verdict::target)),
            (from, to) => {
                let chain = match from {
                    End::Zone(from) => format!("forward_{from}"),
                    _ => "forward".to_owned(),
                };
                let target = match (to, verdict) {
                    (End::Zone(to), Some(verdict)) => Some(self.bound_for(to, verdict)),
                    (_, verdict) => verdict.map(Verdict::target),
                };
                (chain, target)
            }
        };
        let target = match (target, word.as_str()) {
            (Some(target), _) => target,
            // Marks and classes let the packet go on; tracking is switched off before any of these chains.
            (None, "MARK" | "DSCP" | "HELPER" | "NOTRACK") => return,
            (None, other) => {
                let text = format!(
                    "`{other}` is no target of a rule; expected ACCEPT, REJECT, DROP, MARK, DSCP, HELPER or NOTRACK"
                );
                self.book
                    .not_understood(section.get("target").map_or(section.origin, |said| said.line), text);
                return;
            }
        };
        self.add(&chain, rule(matches, target, origin), section);
    }

    /// The chain for packets on their way to a zone.
    fn bound_for(&mut self, zone: &str, verdict: Verdict) -> Target {
        if let Some(zone) = self.zones.iter_mut().find(|one| one.name == zone) {
            zone.wanted.insert(verdict);
        }
        Target::Jump(format!("{}_to_{zone}", verdict.word()))
    }

    fn forwarding(&mut self, section: &'a Section) {
        let (Some(from), Some(to)) = (self.end(section, "src"), self.end(section, "dest")) else { return };
        let chain = match from {
            End::Zone(from) => format!("forward_{from}"),
            End::Any => "forward".to_owned(),
            End::None => {
                self.book.not_understood(
                    section.origin,
                    "this forwarding has no `src`, and the firewall leaves it out",
                );
                return;
            }
        };
        let target = match to {
            End::Zone(to) => self.bound_for(to, Verdict::Accept),
            End::Any => Target::Accept,
            End::None => {
                self.book.not_understood(
                    section.origin,
                    "this forwarding has no `dest`, and the firewall leaves it out",
                );
                return;
            }
        };
        let mut matches = Vec::new();
        match section.text("family") {
            Some("ipv4") => matches.push(holds(MatchKind::Version(Family::V4))),
            Some("ipv6") => matches.push(holds(MatchKind::Version(Family::V6))),
            _ => {}
        }
        self.add(&chain, rule(matches, target, section.whole()), section);
    }

    fn redirect(&mut self, section: &'a Section) {
        if section.text("target").is_some_and(|target| target.eq_ignore_ascii_case("snat")) {
            return self.source_redirect(section);
        }
        let Some(from) = self.end(section, "src") else { return };
        let Some(mut matches) = self.conditions(section, [("src_ip", "src_port"), ("src_dip", "src_dport")])
        else {
            return;
        };
        let to = section.all("dest_ip").next().and_then(|(word, _)| word.parse::<IpAddr>().ok());
        // Nobody but IPv4 is translated where nothing says otherwise (fw4.uc, parse_redirect).
        let family = to.map_or(Family::V4, Family::of);
        if section.get("family").is_none() {
            matches.insert(0, holds(MatchKind::Version(family)));
        }
        let ports =
            match section.get("dest_port").map(|said| said.text.replace(':', "-").parse::<PortRange>()) {
                None => None,
                Some(Ok(ports)) => Some(ports),
                Some(Err(())) => {
                    self.book.not_understood(
                        section.origin,
                        "`dest_port` is no port or range of ports; the firewall leaves this section out",
                    );
                    return;
                }
            };
        let kind = if to.is_some() { TranslationKind::Destination } else { TranslationKind::Redirect };
        let how = Translation { addresses: to.map(IpRange::from), ports, ..Translation::of(kind) };
        let chain = match from {
            End::Zone(from) => {
                if let Some(zone) = self.zones.iter_mut().find(|one| one.name == from) {
                    zone.redirects = true;
                }
                format!("dstnat_{from}")
            }
            _ => "dstnat".to_owned(),
        };
        self.add(&chain, rule(matches, Target::Translate(how), section.whole()), section);
    }

    fn source_redirect(&mut self, section: &'a Section) {
        let Some(to) = self.end(section, "dest") else { return };
        let Some(matches) = self.conditions(section, [("src_ip", "src_port"), ("dest_ip", "dest_port")])
        else {
            return;
        };
        let address = section.text("src_dip").and_then(|text| text.parse::<IpAddr>().ok());
        let how =
            Translation { addresses: address.map(IpRange::from), ..Translation::of(TranslationKind::Source) };
        let chain = if let End::Zone(to) = to { format!("srcnat_{to}") } else { "srcnat".into() };
        self.add(&chain, rule(matches, Target::Translate(how), section.whole()), section);
    }

    fn nat(&mut self, section: &'a Section) {
        let Some(to) = self.end(section, "src") else { return };
        let Some(mut matches) = self.conditions(section, [("src_ip", "src_port"), ("dest_ip", "dest_port")])
        else {
            return;
        };
        if section.get("proto").is_none() {
            matches.retain(|one| !matches!(one.kind, MatchKind::AnyOf(_) | MatchKind::Protocol(_)));
        }
        let word = section.text("target").unwrap_or("MASQUERADE").to_ascii_uppercase();
        let target = match word.as_str() {
            "ACCEPT" => Target::Accept,
            "SNAT" => {
                let address = section.text("snat_ip").and_then(|text| text.parse::<IpAddr>().ok());
                Target::Translate(Translation {
                    addresses: address.map(IpRange::from),
                    ..Translation::of(TranslationKind::Source)
                })
            }
            _ => Target::Translate(Translation::of(TranslationKind::Masquerade)),
        };
        let chain = if let End::Zone(to) = to { format!("srcnat_{to}") } else { "srcnat".into() };
        self.add(&chain, rule(matches, target, section.whole()), section);
    }

    fn chains(&mut self, first: Origin) -> Vec<Chain> {
        let defaults = self.defaults.map_or(first, Section::whole);
        let drops_invalid = self.defaults.and_then(|section| section.is_on("drop_invalid")) == Some(true);
        let mut chains = Vec::new();
        for (name, hook) in [("input", Hook::Input), ("forward", Hook::Forward), ("output", Hook::Output)] {
            let (verdict, origin) = match self.defaults {
                Some(section) => self.policy(section, name),
                None => (Verdict::Drop, first),
            };
            let mut rules = Vec::new();
            match hook {
                Hook::Input => {
                    rules.push(rule(vec![holds(MatchKind::Entering("lo".into()))], Target::Accept, defaults))
                }
                Hook::Output => {
                    rules.push(rule(vec![holds(MatchKind::Leaving("lo".into()))], Target::Accept, defaults))
                }
                _ => {}
            }
            let known = ConnectionStates { established: true, related: true, ..ConnectionStates::default() };
            rules.push(rule(vec![holds(MatchKind::States(known))], Target::Accept, defaults));
            if drops_invalid {
                let invalid = ConnectionStates { invalid: true, ..ConnectionStates::default() };
                rules.push(rule(vec![holds(MatchKind::States(invalid))], Target::Drop, defaults));
            }
            rules.extend(self.rules.remove(name).unwrap_or_default());
            for zone in &self.zones {
                let ends = if hook == Hook::Output { &zone.to } else { &zone.from };
                for end in ends {
                    rules.push(rule(
                        end.clone(),
                        Target::Jump(format!("{name}_{}", zone.name)),
                        zone.section.whole(),
                    ));
                }
            }
            // A policy of a chain cannot answer, so the last rule does.
            if verdict == Verdict::Reject {
                rules.push(rule(Vec::new(), Verdict::Reject.target(), origin));
            }
            let policy = if verdict == Verdict::Accept { Target::Accept } else { Target::Drop };
            chains.push(base(name, hook, ChainKind::Filter, 0, policy, rules, origin));
        }
        let zones = std::mem::take(&mut self.zones);
        for zone in &zones {
            self.zone_chains(zone, &mut chains);
        }
        self.translations(&zones, first, &mut chains);
        // The firewall always has this chain; where nothing is rejected, nothing is to be said of it.
        let rejects = |rule: &Rule| rule.target == Verdict::Reject.target();
        if chains.iter().flat_map(|chain| &chain.rules).any(rejects) {
            let reject = rule(Vec::new(), Target::Reject, defaults);
            chains.push(plain("handle_reject".into(), vec![reject], defaults));
        }
        chains
    }

    fn zone_chains(&mut self, zone: &Zone<'_>, chains: &mut Vec<Chain>) {
        let (name, whole) = (zone.name, zone.section.whole());
        let translated = || {
            let dnat = ConnectionStates { dnat: true, ..ConnectionStates::default() };
            zone.redirects.then(|| rule(vec![holds(MatchKind::States(dnat))], Target::Accept, whole))
        };
        for (chain, (verdict, origin), side) in
            [("input", zone.input, "from"), ("output", zone.output, "to"), ("forward", zone.forward, "to")]
        {
            let own = format!("{chain}_{name}");
            let mut rules = self.rules.remove(&own).unwrap_or_default();
            if chain != "output" {
                rules.extend(translated());
            }
            rules.push(rule(Vec::new(), Target::Jump(format!("{}_{side}_{name}", verdict.word())), origin));
            chains.push(plain(own, rules, whole));
        }
        let judged = |ends: &[Vec<Match>], verdict: Verdict, origin: Origin| -> Vec<Rule> {
            let one = |end: &Vec<Match>| Rule {
                logs: zone.logs && verdict != Verdict::Accept,
                ..rule(end.clone(), verdict.target(), origin)
            };
            ends.iter().map(one).collect()
        };
        let (verdict, origin) = zone.input;
        chains.push(plain(
            format!("{}_from_{name}", verdict.word()),
            judged(&zone.from, verdict, origin),
            origin,
        ));
        for verdict in &zone.wanted {
            let mut rules = Vec::new();
            if *verdict == Verdict::Accept
                && (zone.masks.is_some() || zone.masks_v6.is_some())
                && zone.section.is_on("masq_allow_invalid") != Some(true)
            {
                let invalid = ConnectionStates { invalid: true, ..ConnectionStates::default() };
                for end in &zone.to {
                    let mut matches = end.clone();
                    if zone.masks_v6.is_none() {
                        matches.push(holds(MatchKind::Version(Family::V4)));
                    }
                    matches.push(holds(MatchKind::States(invalid)));
                    rules.push(rule(matches, Target::Drop, whole));
                }
            }
            rules.extend(judged(&zone.to, *verdict, whole));
            chains.push(plain(format!("{}_to_{name}", verdict.word()), rules, whole));
        }
    }

    fn translations(&mut self, zones: &[Zone<'_>], first: Origin, chains: &mut Vec<Chain>) {
        let mut arrival = self.rules.remove("dstnat").unwrap_or_default();
        let mut departure = self.rules.remove("srcnat").unwrap_or_default();
        let mut own = Vec::new();
        for zone in zones {
            let whole = zone.section.whole();
            let redirects = self.rules.remove(&format!("dstnat_{}", zone.name)).unwrap_or_default();
            if !redirects.is_empty() {
                let to = format!("dstnat_{}", zone.name);
                arrival
                    .extend(zone.from.iter().map(|end| rule(end.clone(), Target::Jump(to.clone()), whole)));
                own.push(plain(to, redirects, whole));
            }
            let mut hides = self.rules.remove(&format!("srcnat_{}", zone.name)).unwrap_or_default();
            for (on, family) in [(zone.masks, Family::V4), (zone.masks_v6, Family::V6)] {
                let Some(origin) = on else { continue };
                let mut matches = vec![holds(MatchKind::Version(family))];
                for (option, make) in [
                    ("masq_src", MatchKind::Source as fn(Vec<IpRange>) -> MatchKind),
                    ("masq_dest", MatchKind::Destination),
                ] {
                    matches.extend(self.addresses(zone.section, option, make).unwrap_or_default());
                }
                hides.push(rule(
                    matches,
                    Target::Translate(Translation::of(TranslationKind::Masquerade)),
                    origin,
                ));
            }
            if !hides.is_empty() {
                let to = format!("srcnat_{}", zone.name);
                departure
                    .extend(zone.to.iter().map(|end| rule(end.clone(), Target::Jump(to.clone()), whole)));
                own.push(plain(to, hides, whole));
            }
        }
        chains.push(base("dstnat", Hook::Prerouting, ChainKind::Nat, -100, Target::Accept, arrival, first));
        chains.push(base("srcnat", Hook::Postrouting, ChainKind::Nat, 100, Target::Accept, departure, first));
        chains.extend(own);
    }
}

fn base(
    name: &str,
    hook: Hook,
    kind: ChainKind,
    priority: i32,
    policy: Target,
    rules: Vec<Rule>,
    origin: Origin,
) -> Chain {
    Chain { name: name.into(), hook: Some(hook), priority, kind, policy: Some(policy), rules, origin }
}

fn plain(name: String, rules: Vec<Rule>, origin: Origin) -> Chain {
    Chain { name, hook: None, priority: 0, kind: ChainKind::Filter, policy: None, rules, origin }
}

/// Protocols by names that the model itself does not use.
fn named_protocol(name: &str) -> Option<Protocol> {
    let number = match name {
        "igmp" => 2,
        "ipip" => 4,
        "ipv6" | "6in4" => 41,
        "rsvp" => 46,
        "ospf" => 89,
        "pim" => 103,
        "vrrp" => 112,
        "l2tp" => 115,
        "udplite" => 136,
        _ => return None,
    };
    Some(Protocol(Some(number)))
}
