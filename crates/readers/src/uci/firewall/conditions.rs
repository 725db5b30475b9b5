//! Match conditions of a firewall section.

use super::Compiler;
use crate::icmp;
use crate::making::{any_of, holds, open};
use crate::uci::text::{Said, Section};
use trevlin_model::{Family, IcmpRange, IpRange, Match, MatchKind, Origin, PortRange, Protocol};

impl Compiler<'_, '_> {
    /// Conditions that rules, redirects and translations share.
    pub(super) fn conditions(&mut self, section: &Section, sides: [(&str, &str); 2]) -> Option<Vec<Match>> {
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
            ("src_mac", "the MAC address of the sender"),
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

    pub(super) fn addresses(
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
                            "`{word}` is not an address, prefix, range or network; the firewall ignores this section"
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

    /// Protocols, TCP and UDP where none is stated, with ports for those that have them and types for ICMP.
    pub(super) fn protocols(&mut self, section: &Section, sides: [(&str, &str); 2]) -> Option<Vec<Match>> {
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
                        self.book.not_understood(line, format!("`{other}` is not a known protocol"));
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

    pub(super) fn ports(
        &mut self,
        section: &Section,
        option: &str,
        make: fn(Vec<PortRange>) -> MatchKind,
    ) -> Option<Option<Match>> {
        let (mut wanted, mut negated) = (Vec::new(), false);
        for (word, said) in section.all(option) {
            let (not, text) = word.strip_prefix('!').map_or((false, word), |rest| (true, rest));
            negated |= not;
            match port_range(text) {
                Ok(ports) => wanted.push(ports),
                Err(()) => {
                    let text = format!(
                        "`{word}` is not a port or range of ports; the firewall ignores this section"
                    );
                    self.book.not_understood(said.line, text);
                    return None;
                }
            }
        }
        Some((!wanted.is_empty()).then(|| Match { negated, kind: make(wanted) }))
    }

    pub(super) fn icmp_types(&mut self, section: &Section) -> Option<Vec<(Family, IcmpRange)>> {
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
                self.book.not_understood(said.line, format!("`{word}` is not an ICMP type"));
                return None;
            }
        }
        Some(found)
    }

    /// The condition that an address is on a list.
    pub(super) fn set(&mut self, said: &Said) -> Match {
        let (negated, text) =
            said.text.strip_prefix('!').map_or((false, said.text.as_str()), |rest| (true, rest));
        let mut words = text.split_whitespace();
        let name = words.next().unwrap_or_default();
        self.set_uses.entry(name.to_owned()).or_default().push(said.line);
        let Some(section) = self.sets.get(name).copied() else {
            return open(format!("the list {name}, which is not in the export"));
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
        let kinds: Vec<&str> = section.all("match").map(|(word, _)| word).collect();
        if kinds.len() > 1 && section.get("loadfile").is_none() {
            let one = |(entry, _): (&str, &Said)| entry_of(&kinds, entry);
            return match section.all("entry").map(one).collect::<Option<Vec<_>>>() {
                Some(lists) => Match { negated, kind: MatchKind::AnyOf(lists) },
                None => open(format!("the list {name}")),
            };
        }
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

    pub(super) fn named_sets(&self) -> Vec<trevlin_model::NamedSet> {
        let one = |(name, section): (&&str, &&Section)| trevlin_model::NamedSet {
            ranges: Vec::new(),
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
                ranges: Vec::new(),
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
}

/// A port, or a range of ports with a hyphen or a colon between its ends.
pub(super) fn port_range(text: &str) -> Result<PortRange, ()> {
    text.replace(':', "-").parse()
}

/// The conditions of an entry with several parts, as `10.4.0.9 443` for `src_ip` and `dest_port`.
fn entry_of(kinds: &[&str], entry: &str) -> Option<Vec<Match>> {
    let parts: Vec<&str> = entry.split([' ', ',', '\t']).filter(|part| !part.is_empty()).collect();
    if parts.len() != kinds.len() {
        return None;
    }
    let one = |(kind, part): (&&str, &&str)| {
        let (side, what) = kind.split_once('_')?;
        let to = matches!(side, "dest" | "dst");
        Some(holds(match what {
            "ip" | "net" => {
                let ranges = vec![part.parse().ok()?];
                if to { MatchKind::Destination(ranges) } else { MatchKind::Source(ranges) }
            }
            "port" => {
                let ports = vec![port_range(part).ok()?];
                if to { MatchKind::DestinationPorts(ports) } else { MatchKind::SourcePorts(ports) }
            }
            _ => return None,
        }))
    };
    kinds.iter().zip(&parts).map(one).collect()
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
