//! Elements of zones and policies as rules: services, ports, ICMP types, forwards, rich rules.

use super::build::{Builder, Stage, Staged, plain, rule};
use super::config::{Element, Part, SHIPPED};
use crate::iptables::protocols;
use std::net::IpAddr;
use trevlin_model::{
    Family, IpRange, Match, MatchKind, Origin, PortRange, Protocol, Residual, Rule, Target, Translation,
    TranslationKind,
};

impl Builder<'_> {
    /// One element of a zone or policy.
    pub(super) fn element(
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

    /// Conditions of a service, a port, a protocol or a source port; each list is one alternative.
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
                    "the service `{name}` is not known; please export its file, /usr/lib/firewalld/services/{name}.xml"
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
                self.notes.push((origin, format!("`{word}` is not a protocol and port, such as tcp/443")));
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
            self.notes.push((one.origin, format!("`{}` is not a known ICMP type", one.get("name"))));
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
            element.child("limit").map(|limit| {
                plain(MatchKind::NotAnalysed(Residual::as_written(format!("limit {}", limit.get("value")))))
            })
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
                Some(_) => (Target::NotAnalysed { name: "mark".into(), ends: false }, Stage::Allow),
                None if blocks => (Target::Reject, Stage::Deny),
                None => continue,
            };
            let matches = matches.into_iter().chain(action.and_then(limited)).collect();
            input.push((stage(own), rule(matches, target, one.origin)));
        }
    }
}

/// `tcp/80`, `tcp/80-90`, `from udp/137`, or a protocol alone.
fn port_word(word: &str) -> Option<Vec<Match>> {
    let (source, word) = word.strip_prefix("from ").map_or((false, word), |rest| (true, rest));
    let (protocol, ports) =
        word.split_once('/').map_or((word, None), |(protocol, ports)| (protocol, Some(ports)));
    let number = protocol.parse().ok().or_else(|| protocols().get(protocol).copied())?;
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
    let port =
        |text: &str| text.trim().parse().ok().or_else(|| crate::iptables::services().get(text).copied());
    let (first, last) = match text.split_once('-') {
        Some((first, last)) => (port(first)?, port(last)?),
        None => (port(text)?, port(text)?),
    };
    (first <= last).then_some(PortRange { first, last })
}
