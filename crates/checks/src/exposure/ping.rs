//! A device answers ICMP echo requests from the Internet.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::{filter_of, others_pass};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::ways::{cited, some_ranges};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/ping",
    area: Area::Exposure,
    title: "ICMP echo answered from the Internet",
    severity: Severity::Info,
    why: "An echo reply shows scanners that a host exists. It also helps administrators to monitor the line, and path MTU \
          discovery needs other ICMP messages; closing it is rarely necessary.",
    fix: "Accept it with a rate limit, or drop echo requests from the Internet. Keep the messages that path MTU discovery \
          needs.",
    judged: "Reports each device that echo requests from the Internet reach. Passes where the kernel is set to ignore them, \
             or a rule drops them.",
    references: &["RFC 792", "RFC 4890, 4.3", "NIST SP 800-41 Rev. 1, 4.1"],
    needs: &[Need::Addresses, Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let pings = &estate.internet().outside.pings;
    let told = pings.iter().map(|ping| {
        let evidence = cited(&ping.steps).collect();
        if !ping.certain {
            return Answer::new(ping.device, Subject::of(SubjectKind::Echo), Verdict::DoesNotApply);
        }
        let verdict = Verdict::Fail(Fail {
            rating: CHECK.rated("it only shows that the host exists"),
            title: "ICMP echo is answered from the Internet".into(),
            detail: format!("Echo requests to {} reach it.", some_ranges(&ping.addresses)).into(),
            evidence,
        });
        Answer::new(ping.device, Subject::of(SubjectKind::Echo), verdict)
    });
    let mut answers: Vec<Answer> = told.collect();
    let facing = |at: &usize| {
        let answered = pings.iter().any(|ping| ping.device == *at);
        !answered && estate.outside(*at).iter().any(|one| one.certain)
    };
    let silent = (0..estate.devices.len()).filter(facing).map(|at| (at, vec![filter_of(estate, at)]));
    others_pass(&mut answers, silent.collect());
    answers
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
            (Small { rules: "-A INPUT -i eth1 -p icmp -j ACCEPT\n", ..base }, &["pass gate"]),
            (Small { rules: "-A INPUT -p icmp -j ACCEPT\n", more: &silent, ..base }, &["pass gate"]),
        ] {
            assert_eq!(on(&CHECK, &one), wanted);
        }
    }
}
