//! A device that sends packets on between networks, and does not filter them.

use crate::check::{Answer, Check, Fail, Need, Reason, Run, Verdict};
use crate::rules::REFERENCES;
use crate::subject::{Subject, SubjectKind};
use crate::support::{StatePart, provide};
use trevlin_analysis::filter_review::{filters, judges};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Family, Hook, Origin, Target};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/no-forward-filter",
    area: Area::Rules,
    title: "Forwarding between networks without a filter",
    severity: Severity::Medium,
    why: "Any host in one of its networks that uses the device as gateway reaches the other networks, bypassing the \
          firewalls between them. On servers and storage appliances, forwarding is rarely intended.",
    fix: "Disable forwarding where the device is not a router (net.ipv4.ip_forward, net.ipv6.conf.all.forwarding). Where it \
          is one, set a default policy of drop and permit the intended traffic.",
    judged: "Fails where forwarding is enabled, the device has two or more networks of that IP version, and no chain for \
             forwarded traffic denies anything. Undetermined where no filter was exported. Devices with an Internet \
             interface are judged by exposure/no-input-filter.",
    references: REFERENCES,
    needs: &[Need::Filter],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for at in 0..estate.devices.len() {
        for family in [Family::V4, Family::V6] {
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::Filter).with(family),
                judge(estate, at, family),
            ));
        }
    }
    answers
}

fn judge(estate: &EstateMap, at: usize, family: Family) -> Verdict {
    let device = &estate.devices[at];
    let host = estate.host(at);
    let Some((true, origin)) = host.forwards[usize::from(family == Family::V6)] else {
        return Verdict::DoesNotApply;
    };
    let networks: Vec<Origin> = device
        .facts
        .interfaces
        .iter()
        .filter(|one| !one.loopback)
        .filter_map(|one| {
            let mut own = one.addresses.iter().filter(|address| Family::of(address.net.addr()) == family);
            own.find(|address| !is_link_local(address.net.addr())).map(|address| address.origin)
        })
        .collect();
    if networks.len() < 2 || !estate.outside(at).is_empty() {
        return Verdict::DoesNotApply;
    }
    let tables = estate.tables(at, family);
    let evidence = || origin.into_iter().chain(networks.iter().copied()).collect();
    if tables.is_empty() {
        let reason = format!("which {family} traffic is forwarded between its networks");
        return Verdict::provide(
            provide(estate, at, &[StatePart::Filter]),
            Reason::decides(reason),
            evidence(),
        );
    }
    let denies = tables.iter().find_map(|table| {
        table.chains.iter().find(|chain| {
            judges(table, chain, Hook::Forward)
                && filters(table, chain)
                && (chain.policy == Some(Target::Drop) || !chain.rules.is_empty())
        })
    });
    if let Some(chain) = denies {
        return Verdict::pass(chain.origin);
    }
    Verdict::Fail(Fail {
        rating: CHECK.rated("none of its interfaces faces the Internet"),
        title: format!("{family} is forwarded between {} networks without a filter", networks.len()).into(),
        detail: format!("Forwarding is enabled for {family}, and no rule denies forwarded traffic.").into(),
        evidence: evidence(),
    })
}

fn is_link_local(address: std::net::IpAddr) -> bool {
    matches!(address, std::net::IpAddr::V6(v6) if v6.is_unicast_link_local())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, estate};

    #[test]
    fn cases() {
        let two = (
            "d/ip-addr.json",
            "[{\"ifname\":\"eth0\",\"addr_info\":[{\"local\":\"10.4.0.9\",\"prefixlen\":24}]},\n{\"ifname\":\"eth1\",\"addr_info\":[{\"local\":\"10.5.0.9\",\"prefixlen\":24}]}]",
        );
        let one = (
            "d/ip-addr.json",
            "[{\"ifname\":\"eth0\",\"addr_info\":[{\"local\":\"10.4.0.9\",\"prefixlen\":24}]}]",
        );
        let on = ("d/sysctl.conf", "net.ipv4.ip_forward = 1\n");
        let off = ("d/sysctl.conf", "net.ipv4.ip_forward = 0\n");
        let open = ("d/iptables-save.txt", "*filter\n:FORWARD ACCEPT [0:0]\nCOMMIT\n");
        let closed = ("d/iptables-save.txt", "*filter\n:FORWARD DROP [0:0]\nCOMMIT\n");
        for (what, files, wanted) in [
            (
                "open",
                &[two, on, open][..],
                &["fail medium d sysctl.conf:1 ip-addr.json:1 ip-addr.json:2"][..],
            ),
            ("not exported", &[two, on], &["ask d"]),
            ("closed", &[two, on, closed], &["pass d"]),
            ("off", &[two, off, open], &[]),
            ("one network", &[one, on, open], &[]),
            ("nobody says so", &[two, open], &[]),
        ] {
            let told: Vec<_> =
                answers(&CHECK, &estate(files)).into_iter().filter(|one| one != "none d").collect();
            assert_eq!(told, wanted, "{what}");
        }
    }
}
