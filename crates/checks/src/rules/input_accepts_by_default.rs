//! A host inside whose filter accepts by default.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rules::REFERENCES;
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::filter_review::judges;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::is_link_local;
use trevlin_model::{Chain, ChainKind, Family, Filter, Hook, Interface, Origin, Protocol};
use trevlin_packets::default_traffic::{DefaultAction, DefaultTraffic, Way, action_of_default};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/input-accepts-by-default",
    area: Area::Rules,
    title: "Host filter accepts by default",
    severity: Severity::Low,
    why: "Every service of the host is reachable from all networks that are routed to it, those of guests and VPN clients \
          included. A filter that lists forbidden traffic only does not cover the service that is installed next.",
    fix: "Set the default policy for input to drop in both IP versions, and permit replies and the required services from \
          the networks that need them.",
    judged: "Fails where a packet filter was exported and a new connection without a specific rule is accepted from a network \
             of the host. Devices with an Internet interface are judged by exposure/no-input-filter, hosts that filter one \
             IP version only by rules/one-ip-version-unfiltered. Undetermined where a condition not analysed decides. Does \
             not apply where no filter for input was exported.",
    references: REFERENCES,
    needs: &[Need::Filter],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let hosts = (0..estate.devices.len()).filter(|at| estate.outside(*at).is_empty());
    hosts.map(|at| Answer::new(at, Subject::of(SubjectKind::Hook).with("input"), judge(estate, at))).collect()
}

/// Handling of the remaining traffic of one IP version.
struct Rest {
    family: Family,
    outcome: DefaultAction,
    interface: Origin,
    decided_by: Vec<Origin>,
}

fn judge(estate: &EstateMap, at: usize) -> Verdict {
    let device = &estate.devices[at];
    let found: Vec<Rest> =
        [Family::V4, Family::V6].into_iter().filter_map(|family| default_of(estate, at, family)).collect();
    let open: Vec<&Rest> = found.iter().filter(|one| one.outcome == DefaultAction::Accepted).collect();
    match found.iter().find(|one| one.outcome == DefaultAction::Depends) {
        _ if found.is_empty() => Verdict::DoesNotApply,
        Some(one) => Verdict::ask(
            format!(
                "Please state whether {} accepts connections of its networks by default: a condition not analysed decides.",
                device.name
            ),
            one.decided_by.iter().copied().chain([one.interface]).collect(),
        ),
        None if open.is_empty() => {
            let lines = found.iter().flat_map(|one| one.decided_by.iter().copied());
            Verdict::pass_by(lines, found[0].interface)
        }
        // Another check's.
        None if open.len() < found.len() => Verdict::DoesNotApply,
        None => {
            let versions: Vec<String> = open.iter().map(|one| one.family.to_string()).collect();
            Verdict::Fail(Fail {
                rating: CHECK.rated("no interface of the host faces the Internet"),
                title: format!("The filter of {} accepts {} by default", device.name, versions.join(" and "))
                    .into(),
                detail: format!(
                    "New connections over {} to ports without a specific rule are accepted.",
                    versions.join(" and ")
                )
                .into(),
                evidence: open
                    .iter()
                    .flat_map(|one| one.decided_by.last().copied().into_iter().chain([one.interface]))
                    .collect(),
            })
        }
    }
}

/// The default for new connections of one IP version, the most open of its networks and of the protocols; none where no chain for
/// input was exported, or where the host has no address of that version.
fn default_of(estate: &EstateMap, at: usize, family: Family) -> Option<Rest> {
    let tables = estate.tables(at, family);
    let chains = || tables.iter().flat_map(|table| table.chains.iter().map(move |chain| (*table, chain)));
    let filters =
        |(table, chain): (&Filter, &Chain)| judges(table, chain, Hook::Input) && chain.kind != ChainKind::Nat;
    if !chains().any(filters) || tables.iter().any(|table| !table.complete) {
        return None;
    }
    let facts = &estate.devices[at].facts;
    let of_family = |one: &Interface| -> Vec<std::net::IpAddr> {
        let own = one.addresses.iter().map(|address| address.net.addr());
        own.filter(|address| Family::of(*address) == family && !is_link_local(*address)).collect()
    };
    let mut found: Option<Rest> = None;
    for interface in facts.interfaces.iter().filter(|one| !one.loopback) {
        let own = of_family(interface);
        if own.is_empty() {
            continue;
        }
        for protocol in [Protocol::TCP, Protocol::UDP] {
            let traffic = DefaultTraffic {
                way: Way::ToDevice,
                entering: &interface.name,
                family,
                protocol,
                port: None,
                own_addresses: &own,
            };
            let action = action_of_default(&tables, &traffic);
            let openness = |one: DefaultAction| match one {
                DefaultAction::Accepted => 2,
                DefaultAction::Depends => 1,
                _ => 0,
            };
            if found.as_ref().is_none_or(|known| openness(action.outcome) > openness(known.outcome)) {
                let (outcome, decided_by) = (action.outcome, action.decided_by);
                found = Some(Rest { family, outcome, interface: interface.origin, decided_by });
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{estate_with, run};

    #[test]
    fn cases() {
        let v4 = (
            "d/ip-addr.json",
            "[{\"ifname\":\"eth0\",\"addr_info\":[{\"local\":\"10.4.0.9\",\"prefixlen\":24}]}]",
        );
        let both = (
            "d/ip-addr.json",
            "[{\"ifname\":\"eth0\",\"addr_info\":[{\"local\":\"10.4.0.9\",\"prefixlen\":24},\n{\"local\":\"fd00::9\",\"prefixlen\":64}]}]",
        );
        let of = |rules: &str| format!("*filter\n:INPUT ACCEPT [0:0]\n{rules}COMMIT\n");
        let (open, one, marked) = (
            of("-A INPUT -p tcp --dport 23 -j DROP\n"),
            of("-A INPUT -i eth0 -s 10.4.0.0/24 -j ACCEPT\n-A INPUT -j DROP\n"),
            of("-A INPUT -m mark --mark 1 -j DROP\n"),
        );
        let nft = "table inet t {\n chain c {\n type filter hook input priority 0; policy accept;\n tcp dport 23 drop\n }\n}\n";
        run(
            &CHECK,
            &[
                (
                    "a list of what is forbidden",
                    &[v4, ("d/iptables-save.txt", &open)],
                    &["fail low d iptables-save.txt:2 ip-addr.json:1"],
                ),
                ("closed at its end", &[v4, ("d/iptables-save.txt", &one)], &["pass d"]),
                ("a condition not analysed", &[v4, ("d/iptables-save.txt", &marked)], &["ask d"]),
                (
                    "both versions",
                    &[both, ("d/nft.txt", nft)],
                    &["fail low d nft.txt:3 ip-addr.json:1 nft.txt:3 ip-addr.json:1"],
                ),
                (
                    "one of two versions",
                    &[
                        both,
                        ("d/iptables-save.txt", &open),
                        ("d/ip6tables-save.txt", "*filter\n:INPUT DROP [0:0]\nCOMMIT\n"),
                    ],
                    &["none d"],
                ),
                (
                    "translation alone",
                    &[v4, ("d/iptables-save.txt", "*nat\n:INPUT ACCEPT [0:0]\nCOMMIT\n")],
                    &["none d"],
                ),
                ("no filter", &[v4], &["none d"]),
            ],
        );
        let facing = estate_with(&[v4, ("d/iptables-save.txt", &open)], "[device.d]\noutside = [\"eth0\"]\n");
        assert!(crate::testing::answers(&CHECK, &facing).is_empty());
    }
}
