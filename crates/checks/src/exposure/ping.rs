//! A device answers a ping from outside.

use crate::check::{Answer, Check, Fail, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::ways::{deciding, some_ranges};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/ping",
    area: Area::Exposure,
    title: "ICMP echo answered from the Internet",
    severity: Severity::Info,
    why: "An answer tells scanners that somebody is there. It also tells an administrator that the line is up, and \
          path discovery needs other messages of the same protocol; so this is worth knowing and seldom worth \
          closing.",
    fix: "Leave it, at a limited rate, or drop requests for an echo from outside. Keep the messages that path \
          discovery needs.",
    judged: "Tells each device that requests for an echo from outside come to. Passes where the kernel was told to \
             stay silent, or a rule drops them.",
    references: &["RFC 792", "RFC 4890, 4.3", "NIST SP 800-41 Rev. 1, 4.1"],
    controls: &[],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let pings = &estate.views().outside.pings;
    let told = pings.iter().map(|ping| {
        let name = &estate.devices[ping.device].name;
        let evidence = deciding(&ping.steps).collect();
        let verdict = Verdict::Fail(Fail {
            rating: CHECK.rated("it only tells that somebody is there"),
            title: format!("{name} answers a ping from outside").into(),
            detail: format!("Requests for an echo to {} come to it.", some_ranges(&ping.addresses)).into(),
            evidence,
        });
        Answer::new(ping.device, Subject::of(SubjectKind::Echo), verdict)
    });
    told.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, on};

    #[test]
    fn cases() {
        let silent = [("gate/sysctl.txt", "net.ipv4.icmp_echo_ignore_all = 1\n")];
        let base = Small::default();
        for (one, wanted) in [
            (
                Small { rules: "-A INPUT -p icmp -j ACCEPT\n", ..base },
                &["fail info gate iptables-save.txt:9"][..],
            ),
            (Small { rules: "-A INPUT -i eth1 -p icmp -j ACCEPT\n", ..base }, &[]),
            (Small { rules: "-A INPUT -p icmp -j ACCEPT\n", more: &silent, ..base }, &[]),
        ] {
            assert_eq!(on(&CHECK, &one), wanted);
        }
    }
}
