//! A device lets others change its routes.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rules::no_source_validation::joins_networks;
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Family;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/icmp-redirects",
    area: Area::Rules,
    title: "ICMP redirects accepted",
    severity: Severity::Low,
    why: "An ICMP redirect lets a host on the same network divert traffic for another host through itself, and read or \
          change it. A router knows its routes and has no need for redirects.",
    fix: "Set net.ipv4.conf.all.accept_redirects, and that of default and of each interface, to 0; likewise for IPv6.",
    judged: "Fails where an export of a routing device sets it to 1 for all its interfaces; medium where one of them faces \
             the Internet. Not judged where no setting was exported.",
    references: &[
        "RFC 4890, 4.3",
        "NIST SP 800-123, 4.2",
        "Linux kernel documentation, ip-sysctl, accept_redirects",
    ],
    needs: &[Need::Kernel],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate().filter(|(_, device)| joins_networks(device)) {
        for (family, tree) in [(Family::V4, "ipv4"), (Family::V6, "ipv6")] {
            let Some(setting) =
                estate.kernel_setting(device, &format!("net.{tree}.conf.all.accept_redirects"))
            else {
                continue;
            };
            let outside = estate.outside(at).iter().find(|one| one.certain);
            let verdict = if setting.value == "0" {
                Verdict::pass(setting.origin)
            } else {
                let (severity, why) = match outside {
                    Some(one) => (Severity::Medium, format!("{} faces the Internet", one.name)),
                    None => (CHECK.severity, "no interface is known to face the Internet".to_owned()),
                };
                Verdict::Fail(Fail {
                    rating: CHECK.rated_at(severity, why),
                    title: format!("ICMP redirects may change {family} routes").into(),
                    detail: format!("{} accepts ICMP redirects over {family}.", device.name).into(),
                    evidence: std::iter::once(setting.origin)
                        .chain(outside.and_then(|one| one.origin))
                        .collect(),
                })
            };
            answers.push(Answer::new(at, Subject::of(SubjectKind::Filter).with(family), verdict));
        }
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

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
        let on = (
            "d/sysctl.conf",
            "net.ipv4.conf.all.accept_redirects = 1\nnet.ipv6.conf.all.accept_redirects = 0\n",
        );
        let later = ("d/sysctl.d/99-z.conf", "net/ipv4/conf/all/accept_redirects = 0\n");
        run(
            &CHECK,
            &[
                ("taken", &[two, on], &["fail low d sysctl.conf:1", "pass d"]),
                ("a later file says no", &[two, on, later], &["pass d", "pass d"]),
                ("one network", &[one, on], &[]),
                ("nobody says", &[two], &[]),
            ],
        );
    }
}
