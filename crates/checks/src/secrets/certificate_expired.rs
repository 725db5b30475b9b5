//! A certificate is out of date.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::name_of;
use jiff::civil::Date;
use trevlin_analysis::crypto::certificates::{day, own};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::certificate::Certificate;
use trevlin_model::{Tunnel, TunnelRole};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/certificate-expired",
    area: Area::Secrets,
    title: "Certificate expired or expiring",
    severity: Severity::Medium,
    why: "An expired certificate either blocks all users or teaches them to ignore warnings. An attacker on the path can \
          then present another certificate unnoticed.",
    fix: "Renew the certificate before it expires, and monitor the next expiry date. Delete certificates that are no longer \
          used.",
    judged: "Fails where the audit date (`--as-of`, otherwise today) is outside the validity period, or within 30 days of \
             its end. Undetermined where an IPsec connection names a certificate that was not exported. Public CAs in the CA store of a system are not judged, since updates of the system renew them.",
    references: &["RFC 5280, 4.1.2.5", "NIST SP 800-52 Rev. 2, 3.2"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for at in 0..estate.devices.len() {
        let blocks = &estate.devices[at].facts.unreadable_blocks;
        for block in blocks.iter().filter(|block| !block.is_key) {
            let file = estate.export(block.origin.export).file_name();
            let ask = format!("Please provide {file} again: a certificate in it cannot be read.");
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::File).with(file),
                Verdict::ask(ask, vec![block.origin]),
            ));
        }
        for tunnel in estate.devices[at].facts.running() {
            answers
                .extend(missing(estate, at, tunnel).map(|ask| Answer::new(at, Subject::tunnel(tunnel), ask)));
        }
        for one in own(estate, at) {
            let path = estate.export(one.origin.export).path();
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::Certificate).with(&one.subject).with(path),
                judge(one, baseline.as_of, baseline.at(at)),
            ));
        }
    }
    answers
}

/// The request for the first certificate that an IPsec connection names and that was not exported: its own, or a pinned one of the other
/// end. Those of servers are requested where their names are judged.
fn missing(estate: &EstateMap, at: usize, tunnel: &Tunnel) -> Option<Verdict> {
    let ipsec = tunnel.ipsec.as_deref()?;
    let served = tunnel.role == TunnelRole::Server && tunnel.accepts_clients();
    let own = ipsec.local.iter().filter(|_| !served);
    let mut files = own.chain(&ipsec.remote).flat_map(|round| &round.certificates);
    let (path, origin) = files.find_map(|file| {
        let path = file.path.as_deref()?;
        estate.find(at, path, file.origin.export).is_none().then_some((path, file.origin))
    })?;
    let ask = format!(
        "Please provide the certificate `{path}`, without its private key: its validity and key decide whether {} is protected.",
        name_of(tunnel)
    );
    Some(Verdict::ask(ask, vec![origin]).wanting(path))
}

fn judge(one: &Certificate, today: Date, thresholds: &Thresholds) -> Verdict {
    let (first, last) = (day(one.not_before), day(one.not_after));
    let left = today.until(last).map_or(i32::MAX, |span| span.get_days());
    let (severity, title, why) = if last < today {
        let why = if one.is_authority {
            (Severity::High, "no certificate that it signed is valid any more")
        } else {
            (CHECK.severity, "it has expired")
        };
        (why.0, format!("Certificate of `{}` expired on {last}", one.subject), why.1)
    } else if first > today {
        (
            Severity::Low,
            format!("Certificate of `{}` is not valid before {first}", one.subject),
            "its validity has not begun",
        )
    } else if i64::from(left) < thresholds.days_before_expiry as i64 {
        (Severity::Low, format!("Certificate of `{}` expires on {last}", one.subject), "it is still valid")
    } else {
        return Verdict::pass(one.origin);
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: title.into(),
        detail: format!(
            "It is valid from {first} to {last}, and was judged as of {today}. Issuer: `{}`.",
            one.issuer
        )
        .into(),
        evidence: vec![one.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers_as_of, certificate as pem, estate, run};

    #[test]
    fn cases() {
        for (name, wanted) in [
            ("server", &["pass d"][..]),
            ("expired", &["fail medium d c.pem:1"]),
            ("ends-soon", &["fail low d c.pem:1"]),
            ("not-yet", &["fail low d c.pem:1"]),
            ("key", &[]),
        ] {
            run(&CHECK, &[(name, &[("d/c.pem", pem(name))], wanted)]);
        }
        let connection = "conn c\n\tauto=start\n\tright=192.0.2.9\n\tleftcert=c.pem\n";
        let named = ("d/etc/ipsec.conf", connection);
        run(
            &CHECK,
            &[
                (
                    "of a connection",
                    &[named, ("d/etc/ipsec.d/certs/c.pem", pem("expired"))],
                    &["fail medium d c.pem:1"],
                ),
                ("named and not exported", &[named], &["ask d"]),
            ],
        );
        run(
            &CHECK,
            &[("a store of public authorities", &[("d/etc/ssl/certs/c.pem", pem("old-authority"))], &[])],
        );
    }

    #[test]
    fn the_date_of_the_audit_moves_it() {
        let files = estate(&[("d/c.pem", pem("expired"))]);
        for (year, month, day, wanted) in [
            (2022, 12, 31, "fail low d c.pem:1"),
            (2023, 1, 1, "pass d"),
            (2026, 5, 1, "pass d"),
            (2026, 5, 20, "fail low d c.pem:1"),
            (2026, 6, 1, "fail low d c.pem:1"),
            (2026, 6, 2, "fail medium d c.pem:1"),
        ] {
            assert_eq!(
                answers_as_of(&CHECK, &files, jiff::civil::date(year, month, day)),
                [wanted],
                "{year}-{month}-{day}"
            );
        }
    }

    #[test]
    fn one_that_cannot_be_read_is_a_question() {
        let broken = "-----BEGIN CERTIFICATE-----\nMIIB\n-----END CERTIFICATE-----\n";
        run(&CHECK, &[("broken", &[("d/c.pem", broken)], &["ask d"])]);
    }
}
