//! One certificate is used by several devices.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::secrets::shown::bearers;
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeMap;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Origin;
use trevlin_model::certificate::Certificate;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/certificate-shared",
    area: Area::Secrets,
    title: "Certificate shared by several devices",
    severity: Severity::Medium,
    why: "The private key is on every device with the certificate. Taken from the weakest of them, it impersonates all, and \
          a replacement has to reach every one at once. A wildcard makes this easy to do and hard to notice.",
    fix: "Issue a certificate for each device with the names of that device alone. Revoke the shared one once all are \
          replaced.",
    judged: "Fails where VPN servers or services of two or more devices show certificates that are the same: equal subject, \
             names, issuer and validity. Devices of one cluster may share one on purpose; accept the finding then.",
    references: &["NIST SP 800-57 Part 1 Rev. 5, 5.3.4", "RFC 6125, 7.2"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

/// The properties by which two certificates are the same.
type Key<'a> = (&'a str, &'a str, &'a [String], i64, i64);

fn key(one: &Certificate) -> Key<'_> {
    (&one.subject, &one.issuer, &one.names, one.not_before, one.not_after)
}

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    // Devices by certificate, each with the line of its own copy.
    let mut held: BTreeMap<Key<'_>, BTreeMap<usize, Origin>> = BTreeMap::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for bearer in bearers(device) {
            for file in bearer.files() {
                let Ok(all) =
                    trevlin_analysis::crypto::certificates::of_files(estate, at, [file].into_iter())
                else {
                    continue;
                };
                if let Some((one, _)) = all.first() {
                    held.entry(key(one)).or_default().entry(at).or_insert(one.origin);
                }
            }
        }
    }
    let mut answers = Vec::new();
    for (key, devices) in &held {
        let Some((first, first_line)) = devices.first_key_value() else { continue };
        let subject = Subject::of(SubjectKind::Certificate).with(key.0).with(key.2.join(" "));
        let verdict = if devices.len() < 2 {
            Verdict::pass(*first_line)
        } else {
            let names: Vec<&str> = devices.keys().map(|at| estate.devices[*at].name.as_str()).collect();
            let wildcard = key.2.iter().any(|name| name.starts_with('*'));
            let kind = if wildcard { "Wildcard certificate" } else { "Certificate" };
            Verdict::Fail(Fail {
                rating: CHECK.rated("its key is on each of them"),
                title: format!("{kind} `{}` is used by {} devices", key.0, devices.len()).into(),
                detail: format!("It is shown by {}.", names.join(", ")).into(),
                evidence: devices.values().copied().collect(),
            })
        };
        answers.push(Answer::new(*first, subject, verdict));
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{certificate as pem, run};

    #[test]
    fn cases() {
        let site = "server {\n  listen 443 ssl;\n  server_name desk.example;\n  ssl_certificate /etc/nginx/desk.pem;\n}\n";
        let (one, other) = ("a/etc/nginx/nginx.conf", "b/etc/nginx/nginx.conf");
        run(
            &CHECK,
            &[
                (
                    "two devices",
                    &[
                        (one, site),
                        ("a/etc/nginx/desk.pem", pem("wildcard")),
                        (other, site),
                        ("b/etc/nginx/desk.pem", pem("wildcard")),
                    ],
                    &["fail medium a desk.pem:1 desk.pem:1"],
                ),
                (
                    "each its own",
                    &[
                        (one, site),
                        ("a/etc/nginx/desk.pem", pem("wildcard")),
                        (other, site),
                        ("b/etc/nginx/desk.pem", pem("server")),
                    ],
                    &["pass a", "pass b"],
                ),
                (
                    "lying about on another",
                    &[
                        (one, site),
                        ("a/etc/nginx/desk.pem", pem("wildcard")),
                        ("b/desk.pem", pem("wildcard")),
                    ],
                    &["pass a"],
                ),
            ],
        );
    }
}
