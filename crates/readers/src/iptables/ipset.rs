//! Saved address lists, as `ipset save` prints them. Rules of the same device that name one are read with its content.
//!
//! Format: ipset(8), "SET TYPES".

use super::matches::protocol;
use crate::addresses;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use std::collections::BTreeMap;
use trevlin_model::{Export, Family, IcmpRange, IpRange, Match, MatchKind, Origin, PortRange, Protocol};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "ipset", title: "address lists, as saved by ipset", manual: "ipset(8)", recognise, read };

fn recognise(export: &Export) -> Recognition {
    let says = |text: &str| {
        let mut words = text.split_whitespace();
        words.next() == Some("create")
            && words
                .nth(1)
                .is_some_and(|kind| ["hash:", "bitmap:", "list:"].iter().any(|one| kind.starts_with(one)))
    };
    let idle = |text: &str| text.trim().is_empty() || text.trim_start().starts_with('#');
    if export.lines().take(TELLING_LINES).any(|line| says(line.text)) {
        Recognition::Content
    } else if export.file_name().starts_with("ipset") && export.lines().all(|line| idle(line.text)) {
        // What `ipset save` prints where there are no lists.
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// Sets by name.
pub(crate) type Sets = BTreeMap<String, HeldSet>;

/// One set.
#[derive(Debug)]
pub(crate) struct HeldSet {
    /// Types of the parts of an element: `ip`, `net`, `port`, `iface` and others.
    parts: Vec<String>,
    /// Elements, each a list of conditions' material.
    pub(crate) entries: Vec<String>,
    /// Elements that are taken out of others.
    exceptions: bool,
    /// Whether elements may be missing.
    unsure: bool,
    /// Whether elements run out, so that the set changes while the device runs.
    pub(crate) timeout: bool,
    /// The sets that a list of sets names.
    members: Vec<(Vec<String>, Vec<String>, bool)>,
    /// Whether it holds IPv6 addresses.
    pub(crate) family: Family,
    pub(crate) origin: Origin,
}

/// Every set of a device's exports.
pub(crate) fn of(around: &ReadContext<'_>) -> Sets {
    let mut sets = Sets::new();
    let all = around.of_format(&READER).filter(|(_, recognised)| *recognised == Recognition::Content);
    for (export, _) in all {
        let mut whole = export.ends_with_line();
        for line in export.lines() {
            whole &= statement(&mut sets, line.text, export.origin_of(line.text.trim())).is_ok();
        }
        // The lost part may have been an element of any of them.
        for set in sets.values_mut().filter(|set| !whole && set.origin.export == export.id()) {
            set.unsure = true;
        }
    }
    // A list of sets holds what its members hold.
    let lists: Vec<String> =
        sets.iter().filter(|(_, set)| set.parts == ["set"]).map(|(name, _)| name.clone()).collect();
    for name in lists {
        let members = sets[&name].entries.iter().filter_map(|member| sets.get(member));
        let members = members
            .map(|one| (one.parts.clone(), one.entries.clone(), one.exceptions || one.timeout || one.unsure))
            .collect();
        if let Some(list) = sets.get_mut(&name) {
            list.members = members;
        }
    }
    sets
}

/// Takes one line.
fn statement(sets: &mut Sets, line: &str, origin: Origin) -> Result<(), String> {
    let words: Vec<&str> = line.split_whitespace().collect();
    match words.as_slice() {
        [] => Ok(()),
        [word, ..] if word.starts_with('#') => Ok(()),
        ["create", name, kind, options @ ..] => {
            let parts = kind.split_once(':').map_or("", |(_, parts)| parts);
            let set = HeldSet {
                parts: parts.split(',').map(str::to_owned).collect(),
                entries: Vec::new(),
                exceptions: false,
                unsure: false,
                timeout: options.contains(&"timeout"),
                members: Vec::new(),
                family: if options.contains(&"inet6") { Family::V6 } else { Family::V4 },
                origin,
            };
            sets.insert((*name).to_owned(), set);
            Ok(())
        }
        ["add", name, entry, options @ ..] => {
            let set =
                sets.get_mut(*name).ok_or_else(|| "the set was not created before this line".to_owned())?;
            set.entries.push((*entry).to_owned());
            set.exceptions |= options.contains(&"nomatch");
            let readable = set.parts == ["set"] || part_count(entry, &set.parts);
            readable
                .then_some(())
                .ok_or_else(|| format!("expected an element of a set of {}", set.parts.join(",")))
        }
        // The word itself is not reported: any text may be in its place.
        _ => Err("expected `create SET TYPE …` or `add SET ELEMENT`".into()),
    }
}

fn part_count(entry: &str, parts: &[String]) -> bool {
    entry.split(',').count() == parts.len()
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut sets = Sets::new();
    for line in export.lines() {
        let text = line.text.trim();
        let origin = export.origin_of(text);
        match statement(&mut sets, text, origin) {
            Ok(()) if text.is_empty() || text.starts_with('#') => {}
            Ok(()) => book.understood(origin),
            Err(why) => book.not_understood(origin, why),
        }
    }
    reading
}

impl HeldSet {
    /// The condition that a packet is in the set; `directions` selects source or destination for each part. `None` where that is not known.
    pub(crate) fn condition(&self, family: Family, directions: &str) -> Option<MatchKind> {
        if self.exceptions || self.timeout || self.unsure || self.members.iter().any(|(_, _, unsure)| *unsure)
        {
            return None;
        }
        // A list that many rules name is theirs each.
        if !crate::growth::may_grow(self.entries.len() * size_of::<IpRange>()) {
            return None;
        }
        let directions: Vec<&str> = directions.split(',').collect();
        let mut all = one_set(&self.parts, &self.entries, family, &directions);
        if self.parts == ["set"] {
            all = Some(Vec::new());
            for (parts, entries, _) in &self.members {
                all = all.zip(one_set(parts, entries, family, &directions)).map(|(mut all, one)| {
                    all.extend(one);
                    all
                });
            }
        }
        simplify(all?)
    }
}

/// The elements as lists of conditions.
fn one_set(
    parts: &[String],
    entries: &[String],
    family: Family,
    directions: &[&str],
) -> Option<Vec<Vec<Match>>> {
    let mut all = Vec::new();
    for entry in entries {
        let mut conditions = Vec::new();
        for ((part, text), direction) in parts.iter().zip(entry.split(',')).zip(directions) {
            element(part, text, family, *direction == "src", &mut conditions)?;
        }
        all.push(conditions);
    }
    // A set without elements holds nothing, whatever its type.
    let known = parts.iter().all(|part| matches!(part.as_str(), "ip" | "net" | "port" | "iface" | "set"));
    (known && parts.len() == directions.len()).then_some(all)
}

fn element(part: &str, text: &str, family: Family, source: bool, to: &mut Vec<Match>) -> Option<()> {
    let kind = match part {
        "ip" | "net" => {
            let ranges = match text.split_once('-') {
                Some(_) => vec![addresses::range(text)?],
                None => vec![IpRange::from(addresses::network(text, family)?)],
            };
            if source { MatchKind::Source(ranges) } else { MatchKind::Destination(ranges) }
        }
        "port" => {
            let (name, ports) = text.split_once(':').unwrap_or(("tcp", text));
            let number = protocol(name)?;
            to.push(Match { negated: false, kind: MatchKind::Protocol(number) });
            if matches!(number, Protocol::ICMP | Protocol::ICMPV6) {
                let (kind, code) = ports.split_once('/').unwrap_or((ports, "0"));
                MatchKind::Icmp(vec![IcmpRange::of_code(kind.parse().ok()?, code.parse().ok()?)])
            } else {
                let (first, last) = ports.split_once('-').unwrap_or((ports, ports));
                let port = |text: &str| text.parse().ok().or_else(|| super::services().get(text).copied());
                let ports = vec![PortRange { first: port(first)?, last: port(last)? }];
                if source { MatchKind::SourcePorts(ports) } else { MatchKind::DestinationPorts(ports) }
            }
        }
        "iface" if source => MatchKind::Entering(text.to_owned()),
        "iface" => MatchKind::Leaving(text.to_owned()),
        _ => return None,
    };
    to.push(Match { negated: false, kind });
    Some(())
}

/// Elements of one part become one condition.
fn simplify(all: Vec<Vec<Match>>) -> Option<MatchKind> {
    let side = |source: bool| {
        let ranges = all.iter().map(|one| match one.as_slice() {
            [Match { kind: MatchKind::Source(ranges), .. }] if source => Some(ranges.clone()),
            [Match { kind: MatchKind::Destination(ranges), .. }] if !source => Some(ranges.clone()),
            _ => None,
        });
        ranges.collect::<Option<Vec<_>>>().map(|ranges| ranges.concat())
    };
    if !all.is_empty() {
        if let Some(ranges) = side(true) {
            return Some(MatchKind::Source(ranges));
        }
        if let Some(ranges) = side(false) {
            return Some(MatchKind::Destination(ranges));
        }
    }
    Some(MatchKind::AnyOf(all))
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{ExportId, LineClass};

    #[test]
    fn sets_become_conditions() {
        for (text, directions, wanted) in [
            (
                "create a hash:net family inet\nadd a 10.0.0.0/8\nadd a 192.0.2.7",
                "src",
                "Source([10.0.0.0-10.255.255.255, 192.0.2.7])",
            ),
            ("create a hash:ip\nadd a 10.0.0.1", "dst", "Destination([10.0.0.1])"),
            ("create a hash:ip", "dst", "AnyOf([])"),
            ("create a hash:ip timeout 60\nadd a 10.0.0.1 timeout 9", "dst", "none"),
            ("create a hash:net\nadd a 10.0.0.0/8\nadd a 10.1.0.0/16 nomatch", "dst", "none"),
            ("create a hash:mac\nadd a 02:00:5e:00:53:01", "src", "none"),
        ] {
            let export = Export::new(ExportId(0), "ipset.save", format!("{text}\n"));
            let sets = of(&ReadContext::of(vec![&export]));
            let found = sets["a"].condition(Family::V4, directions);
            assert_eq!(found.map_or("none".to_owned(), |kind| format!("{kind:?}")), wanted, "{text}");
        }
        // One that breaks off may lack elements.
        let export =
            Export::new(ExportId(0), "ipset.save", "create a hash:ip\nadd a 10.0.0.1\nadd a 10.0.".into());
        assert!(of(&ReadContext::of(vec![&export]))["a"].condition(Family::V4, "src").is_none());
        let text = "create a hash:ip,port\nadd a 10.0.0.1,udp:53\ncreate l list:set\nadd l a\n";
        let export = Export::new(ExportId(0), "ipset.save", text.into());
        let sets = of(&ReadContext::of(vec![&export]));
        for (name, directions) in [("a", "dst,dst"), ("l", "dst,dst")] {
            let Some(MatchKind::AnyOf(all)) = sets[name].condition(Family::V4, directions) else {
                panic!("{name}")
            };
            assert_eq!(all[0].len(), 3, "{name}: {all:?}");
        }
    }

    #[test]
    fn what_is_not_a_saved_set_is_told() {
        let text = "create a hash:ip\nadd a 10.0.0.1\nadd b 10.0.0.1\nadd a 10.0.0.1,80\nflush\n";
        let export = Export::new(ExportId(0), "ipset.save", text.into());
        let reading = read(&export, &ReadContext::default());
        let classes: Vec<_> =
            (1..=5).map(|line| reading.ledger.class(line) == Some(LineClass::Understood)).collect();
        assert_eq!(classes, [true, true, false, false, false]);
        assert_eq!(reading.ledger.notes.len(), 3);
    }
}
