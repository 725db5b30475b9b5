//! Rules of the command `ufw` as the status report shows them, and the rules of iptables that the program makes of them (ufw(8)).

use super::parts::{Profiles, shipped};
use super::settings::{DIRECTIONS, Policy};
use std::net::IpAddr;
use trevlin_model::{Export, Family, Origin};

/// Content of a status report.
#[derive(Debug, Default)]
pub(super) struct Report {
    /// Whether the filter is loaded, with the line.
    pub(super) active: Option<(bool, Origin)>,
    /// Policies of the directions.
    pub(super) policies: [Option<(Policy, Origin)>; 3],
    /// Its rules in order.
    pub(super) rules: Vec<ReportedRule>,
    /// Lines that are no rule, with what was expected.
    pub(super) strange: Vec<(Origin, &'static str)>,
    /// Lines that say something, or head it.
    pub(super) understood: Vec<Origin>,
}

/// A rule of a report.
#[derive(Debug)]
pub(super) struct ReportedRule {
    /// IP version.
    pub(super) family: Family,
    /// The chain, and the rules of iptables that the program puts into it or into its helpers.
    pub(super) lines: Vec<String>,
    /// The remark.
    pub(super) comment: Option<String>,
    /// Its line.
    pub(super) origin: Origin,
}

const ACTIONS: [(&str, &str); 4] =
    [("ALLOW", "ACCEPT"), ("DENY", "DROP"), ("REJECT", "REJECT"), ("LIMIT", "LIMIT")];

/// Reads a report.
pub(super) fn report(export: &Export, profiles: &Profiles) -> Report {
    let mut report = Report::default();
    let (mut table, mut before) = (false, Vec::new());
    for line in export.lines() {
        let text = line.text.trim();
        let origin = export.origin_of(text);
        if text.is_empty() {
            continue;
        }
        if let Some(state) = text.strip_prefix("Status: ") {
            report.active = Some((state == "active", origin));
        } else if let Some(defaults) = text.strip_prefix("Default: ") {
            for part in defaults.split(", ") {
                let Some((policy, of)) = part.split_once(" (") else { continue };
                let at = ["incoming)", "outgoing)", "routed)"].iter().position(|one| *one == of);
                if let (Some(at), Some(policy)) = (at, Policy::of_report(policy)) {
                    report.policies[at] = Some((policy, origin));
                }
            }
        } else if text.starts_with("To ") && text.ends_with("From") {
            table = true;
        } else if table && !text.starts_with("--") {
            match rule(text, profiles) {
                Some(rules) => {
                    let rules = rules.into_iter();
                    report.rules.extend(rules.map(|(family, lines, comment)| ReportedRule {
                        family,
                        lines,
                        comment,
                        origin,
                    }));
                }
                None => {
                    report.strange.push((origin, "a rule, as `22/tcp   ALLOW IN   Anywhere`"));
                    continue;
                }
            }
        } else if !(text.starts_with("--")
            || text.starts_with("Logging:")
            || text.starts_with("New profiles:"))
        {
            // Before the output is the command line, or its prompt.
            before.push(origin);
            if report.active.is_some() {
                report.strange.push((origin, "a line of `ufw status`"));
            }
            continue;
        }
        report.understood.push(origin);
    }
    if report.active.is_none() {
        report
            .strange
            .extend(before.into_iter().map(|origin| (origin, "`Status: active` or `Status: inactive`")));
    }
    report
}

/// One end of a rule.
#[derive(Debug, Default)]
struct End<'a> {
    address: Option<&'a str>,
    /// Ports as written, or the name of a profile.
    ports: Option<&'a str>,
    protocol: Option<&'a str>,
    interface: Option<&'a str>,
    v6: bool,
}

impl<'a> End<'a> {
    fn of(text: &'a str) -> Self {
        let mut end = Self::default();
        let mut rest = text.trim();
        if let Some((before, interface)) = rest.rsplit_once(" on ") {
            (rest, end.interface) = (before.trim(), Some(interface.trim()));
        }
        if let Some(before) = rest.strip_suffix(" (v6)") {
            (rest, end.v6) = (before, true);
        }
        // The long report names the profile behind its ports.
        if rest.ends_with(')')
            && let Some((before, profile)) = rest.split_once(" (")
        {
            end.v6 |= profile.contains("(v6)");
            rest = before;
        }
        if let Some((before, protocol)) = rest.rsplit_once('/')
            && protocol.chars().all(|one| one.is_ascii_lowercase() || one == '6')
            && protocol.starts_with(|one: char| one.is_ascii_lowercase())
        {
            (rest, end.protocol) = (before, Some(protocol));
        }
        if rest == "Anywhere" || rest.is_empty() {
            return end;
        }
        let first = rest.split(' ').next().unwrap_or(rest);
        if is_network(first) {
            end.address = Some(first);
            end.v6 |= first.contains(':');
            rest = rest[first.len()..].trim();
        }
        end.ports = (!rest.is_empty()).then_some(rest);
        end
    }

    /// Ports by protocol: those of a profile may be several.
    fn choices(&self, profiles: &Profiles) -> Option<Vec<(Option<String>, Option<String>)>> {
        let Some(written) = self.ports else {
            return Some(vec![(None, self.protocol.map(str::to_owned))]);
        };
        if written.starts_with(|one: char| one.is_ascii_digit()) {
            return Some(vec![(Some(written.to_owned()), self.protocol.map(str::to_owned))]);
        }
        let known = profiles.get(written).or_else(|| shipped().profiles.get(written))?;
        let choice = |part: &str| match part.split_once('/') {
            Some((ports, protocol)) => (Some(ports.to_owned()), Some(protocol.to_owned())),
            None => (Some(part.to_owned()), None),
        };
        Some(known.split('|').map(choice).collect())
    }
}

fn is_network(text: &str) -> bool {
    let (address, length) = text.split_once('/').map_or((text, None), |(one, other)| (one, Some(other)));
    address.parse::<IpAddr>().is_ok() && length.is_none_or(|length| length.parse::<u8>().is_ok())
}

/// IP version, lines of iptables, and the remark.
type Made = (Family, Vec<String>, Option<String>);

/// Takes a row of the report apart.
fn rule(text: &str, profiles: &Profiles) -> Option<Vec<Made>> {
    let (text, comment) = match text.split_once(" # ") {
        Some((before, comment)) => (before.trim_end(), Some(comment.trim().to_owned())),
        None => (text, None),
    };
    // The number of the row.
    let text = match text.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
        Some((number, rest)) if number.trim().parse::<u32>().is_ok() => rest.trim(),
        _ => text,
    };
    let find = |(word, target): &(&str, &'static str)| {
        let at = text.find(&format!(" {word} ")).or_else(|| text.find(&format!(" {word}\t")))?;
        Some((at, word.len(), *target))
    };
    let (at, length, target) = ACTIONS.iter().filter_map(find).min_by_key(|(at, _, _)| *at)?;
    let (to, rest) = (&text[..at], text[at + 1 + length..].trim_start());
    let (direction, from) = match rest.split_once(' ') {
        Some(("IN", from)) => (0, from),
        Some(("OUT", from)) => (1, from),
        Some(("FWD", from)) => (2, from),
        _ => (0, rest),
    };
    let mut from = from.trim();
    let mut logged = false;
    if let Some((before, marks)) = from.rsplit_once(" (")
        && let Some(marks) = marks.strip_suffix(')')
        && marks.split(", ").all(|mark| matches!(mark, "log" | "log-all" | "out"))
    {
        logged = marks.contains("log");
        from = before.trim();
    }
    let (to, from) = (End::of(to), End::of(from));
    let family = if to.v6 || from.v6 { Family::V6 } else { Family::V4 };
    let mut made = Vec::new();
    for (ports, protocol) in to.choices(profiles)? {
        for (source_ports, source_protocol) in from.choices(profiles)? {
            let ends = Ends {
                family,
                direction,
                entering: if direction == 2 { from.interface } else { to.interface },
                leaving: if direction == 2 { to.interface } else { from.interface },
                destination: to.address,
                source: from.address,
                ports: ports.as_deref(),
                source_ports: source_ports.as_deref(),
                protocol: protocol.as_deref().or(source_protocol.as_deref()),
            };
            made.push((family, ends.lines(target, logged), comment.clone()));
        }
    }
    Some(made)
}

/// A rule with one choice of ports.
struct Ends<'a> {
    family: Family,
    direction: usize,
    entering: Option<&'a str>,
    leaving: Option<&'a str>,
    destination: Option<&'a str>,
    source: Option<&'a str>,
    ports: Option<&'a str>,
    source_ports: Option<&'a str>,
    protocol: Option<&'a str>,
}

impl Ends<'_> {
    /// Its lines of iptables: one, or one each for TCP and UDP where ports are given without a protocol; three for a limit of the rate.
    fn lines(&self, target: &str, logged: bool) -> Vec<String> {
        let any_ports = self.ports.is_none() && self.source_ports.is_none();
        let protocols: &[Option<&str>] = match self.protocol {
            Some(one) => &[Some(one)],
            None if any_ports => &[None],
            None => &[Some("tcp"), Some("udp")],
        };
        let prefix = prefix(self.family);
        let chain = format!("{prefix}-user-{}", DIRECTIONS[self.direction]);
        let mut lines = Vec::new();
        for protocol in protocols {
            let mut conditions = String::new();
            let mut add = |option: &str, value: Option<&str>| {
                if let Some(value) = value {
                    conditions.push_str(&format!(" {option} {value}"));
                }
            };
            add("-i", self.entering);
            add("-o", self.leaving);
            add("-p", *protocol);
            add("-d", self.destination);
            add("-s", self.source);
            let several = |ports: Option<&str>| ports.is_some_and(|ports| ports.contains([',', ':']));
            if several(self.ports) || several(self.source_ports) {
                add("-m multiport --dports", self.ports);
                add("-m multiport --sports", self.source_ports);
            } else {
                add("--dport", self.ports);
                add("--sport", self.source_ports);
            }
            if logged {
                lines.push(format!("-A {chain}{conditions} -j LOG"));
            }
            match target {
                "LIMIT" => {
                    let new = "-m conntrack --ctstate NEW -m recent";
                    lines.push(format!("-A {chain}{conditions} {new} --set"));
                    lines.push(format!(
                        "-A {chain}{conditions} {new} --update --seconds 30 --hitcount 6 -j {prefix}-user-limit"
                    ));
                    lines.push(format!("-A {chain}{conditions} -j {prefix}-user-limit-accept"));
                }
                "REJECT" if *protocol == Some("tcp") => {
                    lines.push(format!("-A {chain}{conditions} -j REJECT --reject-with tcp-reset"));
                }
                _ => lines.push(format!("-A {chain}{conditions} -j {target}")),
            }
        }
        lines
    }
}

/// The beginning of the names of the program's chains.
pub(super) fn prefix(family: Family) -> &'static str {
    match family {
        Family::V4 => "ufw",
        Family::V6 => "ufw6",
    }
}
