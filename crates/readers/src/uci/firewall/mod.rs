//! The package `firewall`, compiled to the ruleset that its firewall loads: one table `inet fw4` with a chain for each zone and
//! direction (OpenWrt, firewall4: ruleset.uc and fw4.uc).

mod chains;
mod conditions;
mod sections;

use super::included::{self, Place};
use super::network::Networks;
use super::text::{Package, Said, Section};
use crate::making::holds;
use crate::reader::{LineRecorder, ReadContext};
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use trevlin_model::housekeeping::{ProtectionKind, SwitchedOff};
use trevlin_model::{
    Chain, Export, ExportState, Families, Family, Filter, FilterFormat, IpRange, Match, MatchKind,
    NotAnalysed, Origin, Rule, Target,
};

/// Default verdict on packets without a matching rule.
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
    book: &'b mut LineRecorder<'a>,
    export: &'a Export,
    around: &'b ReadContext<'a>,
    /// Rules of other files, by their chain, and whether they precede the existing ones.
    included: Vec<(String, bool, Vec<Rule>)>,
    /// Chains and sets of other files in the same table.
    beside: Vec<Filter>,
    /// Whether a section was lost that may have been anything.
    lost: bool,
    not_analysed: Vec<NotAnalysed>,
    switched_off: Vec<SwitchedOff>,
    zones: Vec<Zone<'a>>,
    /// Rules by chain.
    rules: BTreeMap<String, Vec<Rule>>,
    sets: BTreeMap<&'a str, &'a Section>,
    set_uses: BTreeMap<String, Vec<Origin>>,
    defaults: Option<&'a Section>,
}

/// Result of the package.
pub(super) struct Compiled {
    pub(super) filter: Filter,
    pub(super) not_analysed: Vec<NotAnalysed>,
    /// Denying rules that are switched off.
    pub(super) switched_off: Vec<SwitchedOff>,
}

/// Compiles the package.
pub(super) fn compile<'a>(
    package: &'a Package,
    networks: &Networks,
    (export, around): (&'a Export, &ReadContext<'a>),
    book: &mut LineRecorder<'a>,
) -> Option<Compiled> {
    let first = package.sections.first()?.origin;
    let mut compiler = Compiler {
        package,
        networks,
        book,
        export,
        around,
        included: Vec::new(),
        beside: Vec::new(),
        lost: false,
        not_analysed: Vec::new(),
        switched_off: Vec::new(),
        zones: Vec::new(),
        rules: BTreeMap::new(),
        sets: BTreeMap::new(),
        set_uses: BTreeMap::new(),
        defaults: package.of("defaults").last(),
    };
    compiler.run();
    compiler.fragments_of_folders();
    let mut chains = compiler.chains(first);
    mark_generated(package, &mut chains);
    for (name, before, rules) in std::mem::take(&mut compiler.included) {
        if let Some(chain) = chains.iter_mut().find(|chain| chain.name == name) {
            let at = if before { 0 } else { chain.rules.len() };
            chain.rules.splice(at..at, rules);
        }
    }
    let mut sets = compiler.named_sets();
    for filter in std::mem::take(&mut compiler.beside) {
        chains.extend(filter.chains);
        sets.extend(filter.sets);
    }
    let filter = Filter {
        families: Families::Both,
        format: FilterFormat::Nftables,
        table: "fw4".into(),
        state: ExportState::Stored,
        chains,
        sets,
        complete: !compiler.lost,
        gaps_placed: false,
        additions: false,
        origin: first,
    };
    Some(Compiled { filter, not_analysed: compiler.not_analysed, switched_off: compiler.switched_off })
}

/// Comments the rules that the firewall adds for its defaults and zones, which no section states.
fn mark_generated(package: &Package, chains: &mut [Chain]) {
    let sections: Vec<(Origin, String)> = package
        .sections
        .iter()
        .filter_map(|section| match section.kind.as_str() {
            "defaults" => Some((section.whole(), "the defaults".to_owned())),
            "zone" => Some((section.whole(), format!("zone {}", section.text("name").unwrap_or_default()))),
            _ => None,
        })
        .collect();
    for rule in chains.iter_mut().flat_map(|chain| &mut chain.rules).filter(|rule| rule.comment.is_none()) {
        let within = |whole: &Origin| whole.start <= rule.origin.start && rule.origin.start <= whole.end;
        if let Some((_, name)) = sections.iter().find(|(whole, _)| within(whole)) {
            rule.comment = Some(format!("{}{name}", Rule::GENERATED));
        }
    }
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
                _ => {
                    self.lost = true;
                    self.book.not_understood(
                        section.origin,
                        "not a section of the firewall; expected defaults, zone, forwarding, rule, redirect, nat, ipset or \
                         include",
                    );
                }
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
        for section in self.package.of("rule").filter(|one| !on(one)) {
            let verdict = Verdict::parse(&section.text("target").unwrap_or("DROP").to_ascii_uppercase());
            if matches!(verdict, Some(Verdict::Drop | Verdict::Reject)) {
                self.switched_off.push(SwitchedOff {
                    kind: ProtectionKind::DenyRule,
                    name: section.text("name").unwrap_or("without a name").to_owned(),
                    within: None,
                    note: None,
                    origin: section.whole(),
                });
            }
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
        if let Some((file, place)) = included::named(section, self.export, self.around)
            && self.fragment(file, &place, Some(section.whole()))
        {
            return;
        }
        let path = section.text("path").unwrap_or("a file");
        let what = format!("`{path}`, which the firewall includes as well,");
        self.not_analysed.push(NotAnalysed::beside(what, section.whole()));
    }

    /// Puts a fragment of another file at its place; returns whether all of it was taken.
    fn fragment(&mut self, file: &Export, place: &Place, line: Option<Origin>) -> bool {
        let (reading, whole) = match place {
            Place::Chain { name, before } => {
                let (mut rules, reading, whole) = crate::nft::rules_of_chain(file, self.around);
                // The section that includes a rule proves it as well.
                rules.iter_mut().for_each(|rule| rule.looked_up_at = rule.looked_up_at.or(line));
                self.included.push((name.clone(), *before, rules));
                (reading, whole)
            }
            Place::Table => {
                let (filter, reading, whole) = crate::nft::parts_of_table(file, self.around);
                self.beside.extend(filter);
                (reading, whole)
            }
            // It is read as a ruleset of its own.
            Place::Ruleset => return true,
        };
        let all = |number| Some((file.origin_of(file.line(number)?.text), reading.ledger.class(number)?));
        (1..=file.line_count()).filter_map(all).for_each(|(origin, class)| self.book.class(origin, class));
        whole
    }

    /// Fragments in the firewall's folders that no section names.
    fn fragments_of_folders(&mut self) {
        let all = included::fragments(self.around);
        let sections = self.package.of("include");
        let named: BTreeSet<String> = sections
            .filter_map(|section| included::named(section, self.export, self.around))
            .map(|(file, _)| file.path().to_owned())
            .collect();
        let around = self.around;
        for file in around.exports.iter().filter(|file| !named.contains(file.path())) {
            if let Some(place) = all.0.get(file.path())
                && !self.fragment(file, place, None)
            {
                let what = format!("`{}`, which the firewall includes as well,", file.file_name());
                self.not_analysed.push(NotAnalysed::beside(what, file.origin(0..0)));
            }
        }
    }

    /// A policy: its own line, otherwise that of the defaults, otherwise `DROP` (fw4.uc, parse_defaults).
    fn policy(&self, section: &Section, name: &str) -> Placed {
        let of = |section: &Section| {
            let said = section.get(name)?;
            Some((Verdict::parse(&said.text)?, said.line))
        };
        of(section).or_else(|| self.defaults.and_then(of)).unwrap_or((Verdict::Drop, section.origin))
    }

    fn zone(&mut self, section: &'a Section) -> Option<Zone<'a>> {
        let Some(name) = section.text("name") else {
            self.book.not_understood(section.origin, "this zone has no `name`, and the firewall ignores it");
            return None;
        };
        if section.is_on("enabled") == Some(false) {
            return None;
        }
        let mut devices: Vec<String> = section.all("device").map(|(word, _)| word.to_owned()).collect();
        for (network, said) in section.all("network") {
            match self.networks.devices(network) {
                _ if self.networks.are_missing() => {
                    let text = format!(
                        "the package `network` is not among the exports: the device of `{network}` is not known, and its \
                         name is used instead; please provide /etc/config/network"
                    );
                    self.book.note(said.line, text);
                    devices.push(network.to_owned());
                }
                found if found.is_empty() => {
                    let text = format!(
                        "the package `network` has no interface `{network}` with a device, so it matches no packet"
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
                    format!("`{word}` is not a prefix; expected one such as 10.4.0.0/24"),
                ),
            }
        }
        let version = match section.text("family") {
            Some("ipv4") => Some(holds(MatchKind::Version(Family::V4))),
            Some("ipv6") => Some(holds(MatchKind::Version(Family::V6))),
            _ => None,
        };
        let ends = |make: fn(String) -> MatchKind, side: fn(Vec<IpRange>) -> MatchKind| -> Vec<Vec<Match>> {
            let nets = || (!subnets.is_empty()).then(|| holds(side(subnets.clone())));
            if devices.is_empty() {
                return nets()
                    .map(|net| version.iter().cloned().chain([net]).collect())
                    .into_iter()
                    .collect();
            }
            let one = |device: &String| {
                // A trailing asterisk or plus stands for any ending.
                let device =
                    device.strip_suffix('*').map_or_else(|| device.clone(), |stem| format!("{stem}+"));
                version.iter().cloned().chain([holds(make(device))]).chain(nets()).collect()
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
                format!("there is no zone `{}`, so the firewall ignores this section; {hint}", said.text);
            self.book.not_understood(said.line, text);
        }
        known.map(End::Zone)
    }
}
