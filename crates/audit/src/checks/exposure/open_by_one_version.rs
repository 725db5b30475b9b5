//! A service is closed to the outside by IPv4 and open by IPv6.

use crate::services::PortKind;
use crate::views::some_ranges;
use crate::{Answer, Area, Check, Estate, Fail, Severity, Verdict, Yardstick};
use std::collections::BTreeMap;
use trevlin_model::Family;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/open-by-one-version",
    area: Area::Exposure,
    title: "A service is closed to the outside by IPv4 and open by IPv6",
    severity: Severity::High,
    why: "Somebody closed the service on purpose and forgot the second road. Scanners know that addresses of IPv6 are often open where those of IPv4 are not, and names and certificates tell them where to look.",
    fix: "Write the same rules for IPv6 as for IPv4, best in one list for both versions, and audit both dumps each time.",
    judged: "Fails for each service that connections from outside come to by IPv6, on a device with an outside address of IPv4 by which none does. Passes where both versions are open or both are closed.",
    references: &["RFC 9099, 2.3", "NIST SP 800-119, 6.3", "BSI NET.1.1.A20"],
    run,
};

fn run(estate: &Estate, _: &Yardstick) -> Vec<Answer> {
    let views = estate.views();
    // Services by device and name: which versions reach them.
    let mut by_service: BTreeMap<(usize, &str), Vec<usize>> = BTreeMap::new();
    for (number, one) in views.outside.reached.iter().enumerate().filter(|(_, one)| one.certain) {
        let service = &views.services[one.device][one.service];
        by_service.entry((one.device, &service.name)).or_default().push(number);
    }
    let mut answers = Vec::new();
    for ((device, name), numbers) in by_service {
        let reached = || numbers.iter().map(|number| &views.outside.reached[*number]);
        let v4 = reached().any(|one| one.address.is_ipv4());
        let both = estate
            .outside(device)
            .iter()
            .filter(|one| one.certain)
            .any(|one| one.addresses.iter().any(std::net::IpAddr::is_ipv4));
        let Some(first) = reached().find(|one| Family::of(one.address) == Family::V6).filter(|_| both) else {
            continue;
        };
        if v4 {
            answers.push(Answer::new(device, name, Verdict::Pass));
            continue;
        }
        let service = &views.services[device][first.service];
        let severity = match service.kind() {
            PortKind::Addresses | PortKind::Other => Severity::Medium,
            _ => CHECK.severity,
        };
        let rules = first.steps.iter().filter_map(|step| step.origin);
        let verdict = Verdict::Fail(Fail {
            severity,
            why_this_severity: "anybody outside reaches it by IPv6, and nobody by IPv4".into(),
            title: format!("{name} of {} answers the outside by IPv6 alone", estate.devices[device].name),
            detail: format!(
                "By IPv4 no connection from outside comes to it; by IPv6 it answers at {}, {}.",
                some_ranges(&first.called),
                service.endpoint()
            ),
            evidence: rules.chain(service.origins()).collect(),
        });
        answers.push(Answer::new(device, name, verdict));
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::checks::testing::run;

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
            ("IPv4 alone", OPEN, CLOSED, &[]),
        ] {
            let files =
                [ADDRESSES, ROUTES, SOCKET, ("d/iptables-save.txt", v4), ("d/ip6tables-save.txt", v6)];
            run(&CHECK, &[(name, &files, wanted)]);
        }
    }
}
