//! A service is blocked from the Internet over IPv4 and open over IPv6.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::line_of;
use std::collections::BTreeMap;
use std::net::IpAddr;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::Reachable;
use trevlin_analysis::ways::cited;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::assemble::OutsideInterface;
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/open-over-ipv6",
    area: Area::Exposure,
    title: "Blocked over IPv4, open over IPv6 (or the reverse)",
    severity: Severity::High,
    why: "The service was closed over IPv4 and remains open over IPv6. Scanners search for this difference, and DNS names \
          and certificates reveal the addresses.",
    fix: "Write the same rules for IPv4 and IPv6, preferably in one rule set for both, and audit both each time.",
    judged: "Fails for each service that is reachable from the Internet over IPv6 on a device with an Internet address of \
             IPv4 over which it is blocked. Passes where both versions are open or both are blocked.",
    references: &["RFC 9099, 2.3", "NIST SP 800-119, 6.3"],
    needs: &[Need::Addresses, Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let internet = estate.internet();
    // Services by device and name: which versions reach them.
    let mut by_service: BTreeMap<(usize, &str), Vec<&Reachable>> = BTreeMap::new();
    for one in internet.outside.reached.iter().filter(|one| one.certain) {
        let service = &internet.services[one.device][one.service];
        by_service.entry((one.device, &service.name)).or_default().push(one);
    }
    let mut by_device: BTreeMap<usize, Vec<(&str, &Reachable)>> = BTreeMap::new();
    for ((device, name), reached) in by_service {
        let speaks_v4 = |one: &OutsideInterface| one.certain && one.addresses.iter().any(IpAddr::is_ipv4);
        if !estate.outside(device).iter().any(speaks_v4) {
            continue;
        }
        let open = by_device.entry(device).or_default();
        let v6 = reached.iter().find(|one| one.address.is_ipv6());
        if let Some(v6) = v6.filter(|_| !reached.iter().any(|one| one.address.is_ipv4())) {
            open.push((name, v6));
        }
    }
    let told = by_device.into_iter().map(|(device, open)| {
        let Some((_, first)) = open.first() else {
            let verdict = Verdict::pass(line_of(estate, device));
            return Answer::new(device, Subject::of(SubjectKind::Services), verdict);
        };
        let names: Vec<String> = open
            .iter()
            .map(|(name, one)| format!("{name} ({})", internet.services[device][one.service].endpoint()))
            .collect();
        let count = match open.len() {
            1 => format!("{} is", names[0]),
            several => format!("{several} services are"),
        };
        let services = open.iter().flat_map(|(_, one)| internet.services[device][one.service].origins());
        let verdict = Verdict::Fail(Fail {
            rating: CHECK.rated("reachable from the Internet over IPv6, and blocked over IPv4"),
            title: format!("{count} reachable from the Internet over IPv6 only").into(),
            detail: format!(
                "Over IPv4 no connection from the Internet reaches {}; over IPv6 the addresses are {}.",
                names.join(", "),
                internet.outside.called_words(first.traffic_source, &first.called).join(", ")
            )
            .into(),
            evidence: cited(&first.steps).chain(services).collect(),
        });
        Answer::new(device, Subject::of(SubjectKind::Services), verdict)
    });
    told.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const ADDRESSES: (&str, &str) = (
            "d/ip-addr.json",
            r#"[{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24},{"local":"2001:db8::9","prefixlen":64}]}]"#,
        );
        const ROUTES: (&str, &str) =
            ("d/ip-route.json", r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}]"#);
        const SOCKET: (&str, &str) = ("d/ss.txt", "tcp LISTEN 0 9 *:22 *:*\n");
        const OPEN: &str = "*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n";
        const CLOSED: &str = "*filter\n:INPUT DROP [0:0]\nCOMMIT\n";
        for (name, v4, v6, wanted) in [
            ("one open", CLOSED, OPEN, &["fail high d ip6tables-save.txt:2 ss.txt:1"][..]),
            ("both open", OPEN, OPEN, &["pass d"]),
            ("both closed", CLOSED, CLOSED, &[]),
            ("IPv4 alone", OPEN, CLOSED, &["pass d"]),
        ] {
            let files =
                [ADDRESSES, ROUTES, SOCKET, ("d/iptables-save.txt", v4), ("d/ip6tables-save.txt", v6)];
            run(&CHECK, &[(name, &files, wanted)]);
        }
    }
}
