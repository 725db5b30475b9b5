//! A configured service was not seen running.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::line_of;
use std::collections::BTreeSet;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::services::Known;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Origin;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/service-not-running",
    area: Area::Exposure,
    title: "Configured service not running",
    severity: Severity::Low,
    why: "Either the service failed unnoticed, or the file is a leftover that the next start may revive. The audited \
          configuration is not the running one.",
    fix: "Establish whether it is intended to run. Start it, or remove its configuration and close its openings.",
    judged: "Fails for each configured service without an exported socket, on a device whose sockets were exported. VPN \
             protocols of the kernel have no socket and are left out. Passes where the socket is shown.",
    references: &["ss(8)"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, services) in estate.internet().services.iter().enumerate() {
        for one in services.iter().filter(|one| one.known == Known::Both) {
            answers.push(Answer::new(
                at,
                Subject::service(&estate.devices[at], one),
                Verdict::pass_by(one.origins(), line_of(estate, at)),
            ));
        }
        // One service may have several ports and addresses.
        let absent = || services.iter().filter(|one| one.known == Known::Absent);
        let names: BTreeSet<&str> = absent().map(|one| &*one.name).collect();
        for name in names {
            let ports: Vec<_> = absent().filter(|one| &*one.name == name).collect();
            let Some(first) = ports.first() else { continue };
            let endpoints: BTreeSet<String> = ports.iter().map(|one| one.endpoint().to_string()).collect();
            let mut evidence: Vec<Origin> = Vec::new();
            for origin in ports.iter().flat_map(|one| one.origins()) {
                if !evidence.contains(&origin) {
                    evidence.push(origin);
                }
            }
            let verdict = Verdict::Fail(Fail {
                rating: CHECK.rated("no service listens there at present"),
                title: format!("{name} is configured but not running").into(),
                detail: format!(
                    "No exported socket listens on {}.",
                    endpoints.into_iter().collect::<Vec<_>>().join(" and ")
                )
                .into(),
                evidence,
            });
            answers.push(Answer::new(at, Subject::service(&estate.devices[at], first), verdict));
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
        const SHELL: (&str, &str) = ("d/etc/ssh/sshd_config", "Port 2222\n");
        run(
            &CHECK,
            &[
                ("seen", &[SHELL, ("d/ss.txt", "tcp LISTEN 0 9 *:2222 *:*\n")], &["pass d"]),
                (
                    "not seen",
                    &[SHELL, ("d/ss.txt", "tcp LISTEN 0 9 *:22 *:*\n")],
                    &["fail low d sshd_config:1"],
                ),
                ("no sockets exported", &[SHELL], &[]),
                (
                    "in the kernel",
                    &[
                        (
                            "d/wg0.conf",
                            "[Interface]\nPrivateKey = yAnz5TF+lXXJte14tji3zlMNq+hd2rYUIgJBgB3fBmk=\nListenPort = 51820\n",
                        ),
                        ("d/ss.txt", "tcp LISTEN 0 9 *:22 *:*\n"),
                    ],
                    &[],
                ),
            ],
        );
    }
}
