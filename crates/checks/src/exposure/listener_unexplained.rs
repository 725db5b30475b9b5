//! A socket waits that no configuration explains.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::line_of;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::Reachable;
use trevlin_analysis::services::{Known, Service};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/listener-unexplained",
    area: Area::Exposure,
    title: "Listening program without a configuration in the export",
    severity: Severity::Info,
    why: "A program without a known configuration is not maintained. It may be a manually started helper, part of another \
          program, or software installed by an attacker.",
    fix: "Identify the configuration of each program and provide it. Stop programs that are not needed.",
    judged: "Reports, for each device with exported sockets, listening sockets beyond the loopback address that no exported \
             file explains; higher for one that is reachable from the Internet on a port that is not well known. Passes \
             where every socket is explained.",
    references: &["NIST SP 800-123, 4.2", "CIS Controls 8, 4.8"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let internet = estate.internet();
    let mut answers = Vec::new();
    for (at, services) in
        internet.services.iter().enumerate().filter(|(at, _)| estate.devices[*at].facts.has_sockets)
    {
        let unexplained: Vec<(usize, &Service)> = services
            .iter()
            .enumerate()
            .filter(|(_, one)| one.known == Known::Observed && !one.is_local())
            .collect();
        let outside = |number: usize| -> Option<&Reachable> {
            internet.outside.reached_of(at).find(|one| one.service == number && one.certain)
        };
        // One that strangers reach, and that nothing names, is a finding of its own.
        let (reached, rest): (Vec<_>, Vec<_>) = unexplained
            .into_iter()
            .partition(|(number, one)| outside(*number).is_some() && one.port_known().is_none());
        for (_, one) in &reached {
            let verdict = Verdict::Fail(Fail {
                rating: CHECK
                    .rated_at(Severity::Medium, "reachable from the Internet, and its purpose is unknown"),
                title: format!(
                    "{} listens on {}, and no exported file explains it",
                    one.name,
                    one.endpoint()
                )
                .into(),
                detail: "Its socket is in the export, and connections from the Internet reach it.".into(),
                evidence: one.origins(),
            });
            answers.push(Answer::new(at, Subject::of(SubjectKind::Port).with(one.endpoint()), verdict));
        }
        if rest.is_empty() {
            if reached.is_empty() {
                answers.push(Answer::new(
                    at,
                    Subject::of(SubjectKind::Port),
                    Verdict::pass_by(services.iter().flat_map(Service::origins).take(1), line_of(estate, at)),
                ));
            }
            continue;
        }
        let mut names: Vec<String> =
            rest.iter().map(|(_, one)| format!("{} ({})", one.name, one.endpoint())).collect();
        names.dedup();
        let verdict = Verdict::Fail(Fail {
            rating: CHECK.rated("its configuration may simply be missing from the export"),
            title: format!("Listening services without a configuration in the export: {}", names.len())
                .into(),
            detail: format!("Services: {}.", names.join(", ")).into(),
            evidence: rest.iter().filter_map(|(_, one)| one.observed).collect(),
        });
        answers.push(Answer::new(at, Subject::of(SubjectKind::Port), verdict));
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, on};

    #[test]
    fn cases() {
        let shell = [("gate/etc/ssh/sshd_config", "Port 22\n")];
        let base = Small { rules: "-A INPUT -p tcp --dport 9999 -j ACCEPT\n", ..Small::default() };
        for (gate, more, wanted) in [
            ("tcp LISTEN 0 9 0.0.0.0:22 0.0.0.0:*\n", &shell[..], &["pass gate"][..]),
            ("tcp LISTEN 0 9 0.0.0.0:22 0.0.0.0:*\n", &[], &["fail info gate ss.txt:1"]),
            ("tcp LISTEN 0 9 127.0.0.1:9999 0.0.0.0:*\n", &[], &["pass gate"]),
            ("tcp LISTEN 0 9 0.0.0.0:9999 0.0.0.0:*\n", &[], &["fail medium gate ss.txt:1"]),
            ("", &[], &[]),
        ] {
            assert_eq!(on(&CHECK, &Small { gate, more, ..base }), wanted, "{gate}");
        }
    }
}
