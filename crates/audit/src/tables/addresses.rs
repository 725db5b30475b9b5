//! The address plan as a table for outputs: the tree of the address space, overlaps in sentences, malformed ranges. All texts have every
//! secret masked.

use ipnet::IpNet;
use serde::Serialize;
use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::net::IpAddr;
use trevlin_analysis::addresses::told::{malformed, sentence};
use trevlin_analysis::addresses::{Allocation, AllocationKind, OverlapKind, Plan};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::assemble::space::own_space;
use trevlin_estate::special::is_foreign;
use trevlin_model::{Family, IpRange, Origin};

/// One claim in the table.
#[derive(Debug, Clone, Serialize)]
pub struct Row {
    /// Number of allocated ranges that contain it.
    pub depth: usize,
    /// The addresses, in the shortest way to write them.
    pub range: String,
    /// First address.
    pub first: IpAddr,
    /// Last address.
    pub last: IpAddr,
    /// Kind.
    pub kind: AllocationKind,
    /// Device.
    pub device: String,
    /// The owner of the allocation.
    pub owner: String,
    /// Whose an address is that is kept for one.
    pub who: Option<String>,
    /// Path of the export.
    pub path: String,
    /// Line, from 1.
    pub line: u32,
    /// Whether it assigns addresses of foreign public space, or of a special-purpose block.
    pub foreign: bool,
    /// The most severe of its overlaps.
    pub overlaps: Option<OverlapKind>,
}

/// Two claims that share addresses.
#[derive(Debug, Clone, Serialize)]
pub struct OverlapRow {
    /// The addresses that both have.
    pub shared: String,
    /// First of them.
    pub first: IpAddr,
    /// Last of them.
    pub last: IpAddr,
    /// Its meaning.
    pub meaning: OverlapKind,
    /// Rows of the two claims, counted from 0.
    pub rows: [usize; 2],
    /// It in one sentence, with both places.
    pub sentence: String,
}

/// Something that should be an address and is none.
#[derive(Debug, Clone, Serialize)]
pub struct MalformedRow {
    /// Device.
    pub device: String,
    /// Whose it is.
    pub owner: String,
    /// The error, and the value probably intended.
    pub what: String,
    /// Path of the export.
    pub path: String,
    /// Line, from 1.
    pub line: u32,
}

/// The plan of an estate, ready for outputs.
#[derive(Debug, Clone, Serialize)]
pub struct Sheet {
    /// Allocations by address: a range before those inside it.
    pub allocations: Vec<Row>,
    /// Overlaps, faults first.
    pub overlaps: Vec<OverlapRow>,
    /// Malformed ranges.
    pub malformed: Vec<MalformedRow>,
}

/// The table of an estate, whole or as far as it touches a range.
#[must_use]
pub fn sheet(estate: &EstateMap, around: Option<IpRange>) -> Sheet {
    let plan = estate.plan();
    let mut order: Vec<usize> = (0..plan.allocations.len())
        .filter(|at| around.is_none_or(|range| plan.allocations[*at].range.intersection(&range).is_some()))
        .collect();
    order.sort_by_key(|at| {
        let allocation = &plan.allocations[*at];
        (
            allocation.range.first(),
            Reverse(allocation.range.last()),
            allocation.kind,
            allocation.device,
            allocation.origin,
        )
    });
    let own = own_space(estate);
    let mut row_of = BTreeMap::new();
    let mut open: Vec<IpRange> = Vec::new();
    let mut allocations: Vec<Row> = Vec::with_capacity(order.len());
    for at in order {
        let allocation = &plan.allocations[at];
        open.retain(|range| {
            range.last() >= allocation.range.first() && range.family() == allocation.range.family()
        });
        while open.last().is_some_and(|range| !range.covers(&allocation.range) || *range == allocation.range)
        {
            open.pop();
        }
        row_of.insert(at, allocations.len());
        allocations.push(row(estate, allocation, open.len(), &own));
        if allocation.range.size() > 1 {
            open.push(allocation.range);
        }
    }
    let mut overlaps = Vec::new();
    for overlap in &plan.overlaps {
        let (Some(a), Some(b)) = (row_of.get(&overlap.a), row_of.get(&overlap.b)) else { continue };
        for row in [*a, *b] {
            let mark = &mut allocations[row].overlaps;
            *mark = Some(mark.map_or(overlap.meaning, |held| held.min(overlap.meaning)));
        }
        overlaps.push(OverlapRow {
            shared: overlap.shared.short(),
            first: overlap.shared.first(),
            last: overlap.shared.last(),
            meaning: overlap.meaning,
            rows: [*a, *b],
            sentence: estate.masker().mask_sentence(&sentence(estate, plan, overlap)),
        });
    }
    overlaps.sort_by_key(|one| (one.meaning, one.first, one.last));
    let malformed = if around.is_some() { Vec::new() } else { mistyped_rows(estate) };
    Sheet { allocations, overlaps, malformed }
}

fn row(estate: &EstateMap, allocation: &Allocation, depth: usize, own: &[IpRange]) -> Row {
    let handed_out = matches!(
        allocation.kind,
        AllocationKind::Pool | AllocationKind::PoolNetwork | AllocationKind::DhcpRange
    );
    let foreign = handed_out && is_foreign(allocation.range, own);
    let (path, line) = line_of(estate, allocation.origin);
    let mask = |text: &str| estate.masker().mask(text);
    Row {
        depth,
        range: allocation.range.short(),
        first: allocation.range.first(),
        last: allocation.range.last(),
        kind: allocation.kind,
        device: estate.devices[allocation.device].name.clone(),
        owner: mask(&allocation.owner),
        who: allocation.who.as_deref().map(mask),
        path,
        line,
        foreign,
        overlaps: None,
    }
}

fn mistyped_rows(estate: &EstateMap) -> Vec<MalformedRow> {
    let mut rows = Vec::new();
    for device in &estate.devices {
        for (owner, bad) in malformed(&device.facts) {
            let (path, line) = line_of(estate, bad.origin);
            rows.push(MalformedRow {
                device: device.name.clone(),
                owner,
                what: estate.masker().mask_sentence(&bad.why),
                path,
                line,
            });
        }
    }
    rows
}

fn line_of(estate: &EstateMap, origin: Origin) -> (String, u32) {
    let export = estate.export(origin.export);
    (export.path().to_owned(), export.line_of(origin.start))
}

/// The surroundings of an address: the smallest allocated network around it, or the usual size of one (24 bits of IPv4, 64 of IPv6).
#[must_use]
pub fn neighbourhood(plan: &Plan, address: IpAddr) -> IpRange {
    let networks = plan.allocations.iter().filter(|allocation| {
        let network = matches!(
            allocation.kind,
            AllocationKind::Network | AllocationKind::Link | AllocationKind::PoolNetwork
        );
        network && allocation.range.contains(address)
    });
    let usual = if Family::of(address) == Family::V4 { 24 } else { 64 };
    let around: IpRange =
        IpNet::new(address, usual).map_or_else(|_| address.into(), |net| net.trunc().into());
    let smallest = networks.map(|allocation| allocation.range).min_by_key(IpRange::size);
    // A small network says little about what lies near.
    smallest.filter(|range| range.size() > around.size() || !around.covers(range)).unwrap_or(around)
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_analysis::testing::estate;

    const LAN: &str = r#"[{"ifname":"eth1","flags":["UP"],"addr_info":[{"local":"10.4.0.1","prefixlen":24}]},
{"ifname":"tun0","flags":["UP","POINTOPOINT"],"addr_info":[{"local":"10.8.0.1","prefixlen":24}]}]"#;

    fn files() -> trevlin_analysis::context::Analyses {
        estate(&[
            ("a/ip-addr.json", LAN),
            (
                "a/dnsmasq.conf",
                "dhcp-range=10.4.0.100,10.4.0.199\ndhcp-host=lamp,10.4.0.120\ndhcp-option=6,10.4.0.53\n",
            ),
            (
                "a/s.conf",
                "dev tun\nserver 10.8.0.0 255.255.255.0\ntopology subnet\nroute 10.7.0.0 255.255.0.0\n",
            ),
            ("b/pptpd.conf", "localip 10.4.0.2\nremoteip 10.4.0.190-210\nlisten 10.4.0.900\n"),
            ("b/chap-secrets", "ann * sesame 10.4.0.150\n"),
            (
                "b/ip-route.json",
                r#"[{"dst":"default","gateway":"10.4.0.1","flags":[]},{"dst":"10.0.0.0/8","gateway":"10.4.0.1","flags":[]}]"#,
            ),
        ])
    }

    #[test]
    fn the_space_as_a_tree() {
        let estate = files();
        let sheet = sheet(&estate, None);
        let told: Vec<_> = sheet
            .allocations
            .iter()
            .map(|row| {
                let mark = match row.overlaps {
                    Some(OverlapKind::Fault) => "!",
                    Some(OverlapKind::Unclear) => "?",
                    Some(OverlapKind::Meant) => "~",
                    None => "",
                };
                format!("{}{} {} {}{mark}", "-".repeat(row.depth), row.range, row.kind.words(), row.device)
            })
            .collect();
        assert_eq!(
            told,
            [
                "10.0.0.0/8 route b",
                "-10.4.0.0/24 network a!",
                "--10.4.0.1 interface a",
                "--10.4.0.53 DNS server a",
                "--10.4.0.100-10.4.0.199 DHCP range a!",
                "---10.4.0.120 reservation a",
                "---10.4.0.150 fixed address b!",
                "--10.4.0.190-10.4.0.210 pool b!",
                "-10.7.0.0/16 remote network a",
                "-10.8.0.0/24 tunnel link a",
                "-10.8.0.0/24 pool network a",
                "--10.8.0.2-10.8.0.254 pool a",
            ]
        );
    }

    #[test]
    fn overlaps_in_sentences() {
        let estate = files();
        let told: Vec<_> = sheet(&estate, None).overlaps.iter().map(|one| one.sentence.clone()).collect();
        assert_eq!(
            told,
            [
                "10.4.0.150, the fixed address of ann in chap-secrets on b (b/chap-secrets:1) lies within 10.4.0.100-10.4.0.199, assigned by dnsmasq (dnsmasq.conf) on a (a/dnsmasq.conf:1).",
                "10.4.0.190-10.4.0.210, assigned to clients by PPTP server on b (b/pptpd.conf:2) and 10.4.0.100-10.4.0.199, assigned by dnsmasq (dnsmasq.conf) on a (a/dnsmasq.conf:1) share 10.4.0.190-10.4.0.199.",
                "10.4.0.190-10.4.0.210, assigned to clients by PPTP server on b (b/pptpd.conf:2) lies within 10.4.0.0/24, the network of eth1 on a (a/ip-addr.json:1).",
            ]
        );
    }

    #[test]
    fn around_an_address() {
        let estate = files();
        for (address, wanted) in [
            ("10.4.0.9", "10.4.0.0/24"),
            ("10.8.0.77", "10.8.0.0/24"),
            ("192.0.2.7", "192.0.2.0/24"),
            ("2001:db8::7", "2001:db8::/64"),
        ] {
            assert_eq!(neighbourhood(estate.plan(), address.parse().unwrap()).short(), wanted);
        }
        let near = sheet(&estate, Some("10.8.0.0/24".parse::<IpNet>().unwrap().into()));
        assert_eq!(near.allocations.len(), 4);
        assert!(near.overlaps.is_empty());
    }
}
