//! Equivalence of packet filter rules.

use crate::{Family, IpRange, IpRangeSet, Match, MatchKind, PortRange, PortSet, Rule};

impl Rule {
    /// Whether two rules are equivalent, independent of place and counters.
    #[must_use]
    pub fn says_the_same(&self, other: &Self) -> bool {
        (&self.target, self.logs) == (&other.target, other.logs)
            && (self.matches == other.matches || normal(&self.matches) == normal(&other.matches))
    }
}

/// Conditions in a form that is the same for the same meaning: values joined and in order, each condition once, in any order.
fn normal(matches: &[Match]) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    // An address of a version is one of its packets.
    let implied = |version: Family| {
        matches.iter().any(|one| match &one.kind {
            MatchKind::Source(ranges) | MatchKind::Destination(ranges) => {
                !one.negated && !ranges.is_empty() && ranges.iter().all(|range| range.family() == version)
            }
            _ => false,
        })
    };
    for one in matches {
        match &one.kind {
            MatchKind::Version(version) if !one.negated && implied(*version) => {}
            // A choice of one is no choice.
            MatchKind::AnyOf(lists) if lists.len() == 1 && !one.negated => all.extend(normal(&lists[0])),
            kind => all.push(format!("{} {}", one.negated, normal_kind(kind))),
        }
    }
    all.sort();
    all.dedup();
    all
}

fn normal_kind(kind: &MatchKind) -> String {
    let addresses = |ranges: &[IpRange]| -> Vec<IpRange> {
        ranges.iter().copied().collect::<IpRangeSet>().iter().copied().collect()
    };
    let ports = |ranges: &[PortRange]| -> Vec<PortRange> {
        ranges.iter().copied().collect::<PortSet>().iter().copied().collect()
    };
    let joined = match kind {
        MatchKind::Source(ranges) => MatchKind::Source(addresses(ranges)),
        MatchKind::Destination(ranges) => MatchKind::Destination(addresses(ranges)),
        MatchKind::OriginalDestination(ranges) => MatchKind::OriginalDestination(addresses(ranges)),
        MatchKind::OriginalDestinationPorts(ranges) => MatchKind::OriginalDestinationPorts(ports(ranges)),
        MatchKind::SourcePorts(ranges) => MatchKind::SourcePorts(ports(ranges)),
        MatchKind::DestinationPorts(ranges) => MatchKind::DestinationPorts(ports(ranges)),
        MatchKind::EitherPorts(ranges) => MatchKind::EitherPorts(ports(ranges)),
        MatchKind::AddressIs { destination, kinds } => {
            let mut kinds = kinds.clone();
            kinds.sort();
            MatchKind::AddressIs { destination: *destination, kinds }
        }
        MatchKind::Icmp(ranges) => {
            let mut all: Vec<String> = ranges.iter().map(|range| format!("{range:?}")).collect();
            all.sort();
            return format!("{all:?}");
        }
        MatchKind::AnyOf(lists) => {
            let mut all: Vec<String> = lists.iter().map(|list| normal(list).join(" and ")).collect();
            all.sort();
            return format!("{all:?}");
        }
        other => other.clone(),
    };
    format!("{joined:?}")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn holds(kind: MatchKind) -> Match {
        Match { negated: false, kind }
    }

    #[test]
    fn the_same_in_another_form() {
        let net = |text: &str| text.parse::<IpRange>().unwrap();
        let port = |first, last| PortRange { first, last };
        let ports = |all: &[PortRange]| holds(MatchKind::DestinationPorts(all.to_vec()));
        let v4 = || holds(MatchKind::Version(Family::V4));
        let from = |all: &[&str]| holds(MatchKind::Source(all.iter().map(|text| net(text)).collect()));
        for (name, one, other, wanted) in [
            (
                "another order",
                vec![ports(&[port(22, 22), port(80, 80)])],
                vec![ports(&[port(80, 80), port(22, 22)])],
                true,
            ),
            (
                "ranges that touch",
                vec![ports(&[port(22, 22), port(23, 30)])],
                vec![ports(&[port(22, 30)])],
                true,
            ),
            ("an implied version", vec![v4(), from(&["10.4.0.0/24"])], vec![from(&["10.4.0.0/24"])], true),
            ("a version that is not implied", vec![v4()], vec![], false),
            ("a choice of one", vec![holds(MatchKind::AnyOf(vec![vec![v4()]]))], vec![v4()], true),
            ("other addresses", vec![from(&["10.4.0.0/24"])], vec![from(&["10.4.1.0/24"])], false),
            (
                "negated",
                vec![Match { negated: true, ..from(&["10.4.0.0/24"]) }],
                vec![from(&["10.4.0.0/24"])],
                false,
            ),
        ] {
            assert_eq!(normal(&one) == normal(&other), wanted, "{name}");
        }
    }
}
