//! Source addresses of packets are not validated.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Device, DeviceKind, MatchKind, ResidualKind};
use trevlin_packets::way::SourceCheck;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/no-source-validation",
    area: Area::Rules,
    title: "No source-address validation",
    severity: Severity::Low,
    why: "Filter rules trust the source address of a packet. Without validation, an external host can send packets with an \
          internal source address. Attacks that need no reply then succeed, such as DNS spoofing, log forgery or denial of \
          service.",
    fix: "Set net.ipv4.conf.all.rp_filter and that of each interface to 1, or to 2 with asymmetric routing. Alternatively \
          drop packets in the filter whose source is not reached through the incoming interface.",
    judged: "Fails where an export disables validation for an interface of a routing device; medium where that faces the \
             Internet. Passes where a filter rule checks the reverse path. Not judged where no setting was exported.",
    references: &["RFC 3704, 2", "RFC 2827", "NIST SP 800-41 Rev. 1, 4.1"],
    needs: &[Need::Addresses, Need::Filter, Need::Kernel],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        if !joins_networks(device) {
            continue;
        }
        // A reverse-path rule validates every interface, as far as is known without following it.
        let by_rule = estate
            .tables_in_force(at)
            .iter()
            .flat_map(|table| &table.chains)
            .flat_map(|chain| &chain.rules)
            .find(|rule| {
                rule.matches.iter().any(|one| match &one.kind {
                    MatchKind::ReversePath { .. } => true,
                    MatchKind::NotAnalysed(residual) => residual.kind == ResidualKind::ReversePath,
                    _ => false,
                })
            });
        for (interface, check, origin) in estate.host(at).source_checks {
            let known = device.facts.interfaces.iter().find(|one| one.name == interface);
            if known.is_some_and(|one| one.loopback) {
                continue;
            }
            let outside = estate.outside(at).iter().any(|one| one.certain && one.name == interface);
            let (severity, why) = if outside {
                (Severity::Medium, "it faces the Internet")
            } else {
                (CHECK.severity, "it is not known to face the Internet")
            };
            let verdict = if check != SourceCheck::Off || by_rule.is_some() {
                let rule = by_rule.map(|rule| rule.origin).filter(|_| check == SourceCheck::Off);
                Verdict::pass(rule.unwrap_or(origin))
            } else {
                Verdict::Fail(Fail {
                    rating: CHECK.rated_at(severity, why),
                    title: format!("Interface {interface} accepts spoofed source addresses").into(),
                    detail: format!(
                        "Source validation of {interface} is off, and no rule checks the reverse path."
                    )
                    .into(),
                    evidence: std::iter::once(origin).chain(known.map(|one| one.origin)).collect(),
                })
            };
            answers.push(Answer::new(at, Subject::of(SubjectKind::Interface).with(interface), verdict));
        }
    }
    answers
}

/// Whether a device connects networks.
pub(super) fn joins_networks(device: &Device) -> bool {
    let networks =
        device.facts.interfaces.iter().filter(|one| !one.loopback && !one.addresses.is_empty()).count();
    networks > 1 || matches!(device.kind, DeviceKind::Firewall | DeviceKind::Router)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let two = (
            "d/ip-addr.json",
            "[{\"ifname\":\"eth0\",\"addr_info\":[{\"local\":\"192.0.2.9\",\"prefixlen\":24}]},\n{\"ifname\":\"eth1\",\"addr_info\":[{\"local\":\"10.5.0.9\",\"prefixlen\":24}]}]",
        );
        let route =
            ("d/ip-route.json", r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}]"#);
        let off = ("d/sysctl.conf", "net.ipv4.conf.all.rp_filter = 0\nnet.ipv4.conf.default.rp_filter = 0\n");
        let one = (
            "d/sysctl.conf",
            "net.ipv4.conf.all.rp_filter = 0\nnet.ipv4.conf.eth0.rp_filter = 1\nnet.ipv4.conf.eth1.rp_filter = 0\n",
        );
        let loose = ("d/sysctl.conf", "net.ipv4.conf.all.rp_filter = 2\nnet.ipv4.conf.eth1.rp_filter = 0\n");
        let rule = (
            "d/nft.txt",
            "table inet t {\n chain c {\n type filter hook prerouting priority 0;\n fib saddr . iif oif missing drop\n }\n}\n",
        );
        run(
            &CHECK,
            &[
                (
                    "off",
                    &[two, route, off],
                    &[
                        "fail medium d sysctl.conf:2 ip-addr.json:1",
                        "fail low d sysctl.conf:2 ip-addr.json:2",
                    ],
                ),
                ("off on one", &[two, route, one], &["pass d", "fail low d sysctl.conf:3 ip-addr.json:2"]),
                ("the stricter counts", &[two, route, loose], &["pass d", "pass d"]),
                ("a rule looks", &[two, route, off, rule], &["pass d", "pass d"]),
                ("nobody says", &[two, route], &[]),
            ],
        );
    }
}
