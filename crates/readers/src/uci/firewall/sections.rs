//! Rules, forwardings, redirects and translations, each in the chain of its zones.

use super::conditions::port_range;
use super::{Compiler, End, Verdict};
use crate::making::{holds, rule};
use crate::uci::text::Section;
use ipnet::IpNet;
use std::net::IpAddr;
use trevlin_model::{Family, IpRange, MatchKind, Rule, Target, Translation, TranslationKind};

impl<'a> Compiler<'a, '_> {
    pub(super) fn add(&mut self, chain: &str, mut one: Rule, section: &Section) {
        one.comment = section.text("name").map(str::to_owned);
        one.logs |= section
            .get("log")
            .is_some_and(|said| !matches!(said.text.as_str(), "0" | "false" | "no" | "off"));
        self.rules.entry(chain.to_owned()).or_default().push(one);
    }

    /// A rule that the firewall adds for a forward.
    fn add_reflected(&mut self, chain: &str, one: Rule, section: &Section) {
        let name = section.text("name").unwrap_or_default();
        let comment = Some(format!("{name} (reflection)").trim().to_owned());
        self.rules.entry(chain.to_owned()).or_default().push(Rule { comment, ..one });
    }

    pub(super) fn rule(&mut self, section: &'a Section) {
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
                    "`{other}` is not a target of a rule; expected ACCEPT, REJECT, DROP, MARK, DSCP, HELPER or NOTRACK"
                );
                self.book
                    .not_understood(section.get("target").map_or(section.origin, |said| said.line), text);
                return;
            }
        };
        self.add(&chain, rule(matches, target, origin), section);
    }

    /// The chain for packets on their way to a zone.
    pub(super) fn bound_for(&mut self, zone: &str, verdict: Verdict) -> Target {
        if let Some(zone) = self.zones.iter_mut().find(|one| one.name == zone) {
            zone.wanted.insert(verdict);
        }
        Target::Jump(format!("{}_to_{zone}", verdict.word()))
    }

    pub(super) fn forwarding(&mut self, section: &'a Section) {
        let (Some(from), Some(to)) = (self.end(section, "src"), self.end(section, "dest")) else { return };
        let chain = match from {
            End::Zone(from) => format!("forward_{from}"),
            End::Any => "forward".to_owned(),
            End::None => {
                self.book.not_understood(
                    section.origin,
                    "this forwarding has no `src`, and the firewall ignores it",
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
                    "this forwarding has no `dest`, and the firewall ignores it",
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

    pub(super) fn redirect(&mut self, section: &'a Section) {
        if section.text("target").is_some_and(|target| target.eq_ignore_ascii_case("snat")) {
            return self.source_redirect(section);
        }
        let Some(from) = self.end(section, "src") else { return };
        let Some(mut matches) = self.conditions(section, [("src_ip", "src_port"), ("src_dip", "src_dport")])
        else {
            return;
        };
        let to = section.all("dest_ip").next().and_then(|(word, _)| word.parse::<IpAddr>().ok());
        // Only IPv4 is translated unless stated otherwise (fw4.uc, parse_redirect).
        let family = to.map_or(Family::V4, Family::of);
        if section.get("family").is_none() {
            matches.insert(0, holds(MatchKind::Version(family)));
        }
        let ports = match section.get("dest_port").map(|said| port_range(&said.text)) {
            None => None,
            Some(Ok(ports)) => Some(ports),
            Some(Err(())) => {
                self.book.not_understood(
                    section.origin,
                    "`dest_port` is not a port or range of ports; the firewall ignores this section",
                );
                return;
            }
        };
        let kind = if to.is_some() { TranslationKind::Destination } else { TranslationKind::Redirect };
        let how = Translation { addresses: to.map(IpRange::from), ports, ..Translation::of(kind) };
        if let (End::Zone(from), Some(to)) = (from, to) {
            self.reflect(section, from, to, &how);
        }
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

    /// Rules by which hosts behind the target's zone reach it by the outer address as well (OpenWrt, firewall4: fw4.uc, parse_redirect,
    /// reflection). They exist where the outer address is in the configuration.
    fn reflect(&mut self, section: &'a Section, from: &str, to: IpAddr, how: &Translation) {
        if section.is_on("reflection") == Some(false) || !to.is_ipv4() {
            return;
        }
        let named: Vec<&str> = section.all("reflection_zone").map(|(word, _)| word).collect();
        let inner: Vec<&'a str> = if named.is_empty() {
            let dest = section.text("dest");
            self.zones.iter().map(|one| one.name).filter(|name| Some(*name) == dest).collect()
        } else {
            self.zones.iter().map(|one| one.name).filter(|name| named.contains(name)).collect()
        };
        let own = |zone: &str| -> Vec<IpNet> {
            let zone = self.zones.iter().find(|one| one.name == zone);
            let networks = zone.into_iter().flat_map(|one| one.section.all("network"));
            networks.filter_map(|(network, _)| self.networks.network(network)).collect()
        };
        let stated = section.text("src_dip").and_then(|text| text.parse::<IpAddr>().ok());
        let outside: Vec<IpRange> = match stated {
            Some(address) => vec![IpRange::from(address)],
            None => own(from).iter().map(|net| IpRange::from(net.addr())).collect(),
        };
        let inside: Vec<(&str, Vec<IpNet>)> = inner.iter().map(|zone| (*zone, own(zone))).collect();
        for (zone, nets) in inside {
            let (Some(first), false) = (nets.first(), outside.is_empty()) else { continue };
            let behind: Vec<IpRange> = nets.iter().map(|net| IpRange::from(net.trunc())).collect();
            let address = if section.text("reflection_src") == Some("external") {
                outside[0].first()
            } else {
                first.addr()
            };
            let (Some(called), Some(mut arrived)) = (
                self.protocols(section, [("", "src_port"), ("", "src_dport")]),
                self.protocols(
                    section,
                    [("", ""), ("", if how.ports.is_some() { "dest_port" } else { "src_dport" })],
                ),
            ) else {
                return;
            };
            let version = || holds(MatchKind::Version(Family::V4));
            let source = holds(MatchKind::Source(behind));
            let mut asked = vec![version(), source.clone(), holds(MatchKind::Destination(outside.clone()))];
            asked.extend(called);
            let mut answers = vec![version(), source, holds(MatchKind::Destination(vec![IpRange::from(to)]))];
            answers.append(&mut arrived);
            let back = Translation {
                addresses: Some(IpRange::from(address)),
                ..Translation::of(TranslationKind::Source)
            };
            if let Some(zone) = self.zones.iter_mut().find(|one| one.name == zone) {
                zone.redirects = true;
            }
            self.add_reflected(
                &format!("dstnat_{zone}"),
                rule(asked, Target::Translate(how.clone()), section.whole()),
                section,
            );
            self.add_reflected(
                &format!("srcnat_{zone}"),
                rule(answers, Target::Translate(back), section.whole()),
                section,
            );
        }
    }

    pub(super) fn source_redirect(&mut self, section: &'a Section) {
        let Some(to) = self.end(section, "dest") else { return };
        let Some(matches) = self.conditions(section, [("src_ip", "src_port"), ("dest_ip", "dest_port")])
        else {
            return;
        };
        let address = section.text("src_dip").and_then(|text| text.parse::<IpAddr>().ok());
        let ports = section.text("src_dport").and_then(|text| port_range(text).ok());
        let how = Translation {
            addresses: address.map(IpRange::from),
            ports,
            ..Translation::of(TranslationKind::Source)
        };
        let chain = if let End::Zone(to) = to { format!("srcnat_{to}") } else { "srcnat".into() };
        self.add(&chain, rule(matches, Target::Translate(how), section.whole()), section);
    }

    pub(super) fn nat(&mut self, section: &'a Section) {
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
                let ports = section.text("snat_port").and_then(|text| port_range(text).ok());
                Target::Translate(Translation {
                    addresses: address.map(IpRange::from),
                    ports,
                    ..Translation::of(TranslationKind::Source)
                })
            }
            _ => Target::Translate(Translation::of(TranslationKind::Masquerade)),
        };
        let chain = if let End::Zone(to) = to { format!("srcnat_{to}") } else { "srcnat".into() };
        self.add(&chain, rule(matches, target, section.whole()), section);
    }
}
