//! A certificate's key or signature is weak.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use serde::Deserialize;
use std::collections::BTreeSet;
use trevlin_analysis::crypto::certificates::own;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::certificate::Certificate;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/certificate-weak",
    area: Area::Secrets,
    title: "Certificate with a weak key or signature",
    severity: Severity::High,
    why: "The private key of a short public key can be computed, and its holder can impersonate the server. A signature with \
          a broken hash can be transferred to a forged certificate.",
    fix: "Create a new key (RSA 3072 bits, or a 256-bit curve) and have it signed with SHA-256 or better. If a CA is \
          affected, reissue its certificates.",
    judged: "Fails where the key is below the security strength of the baseline (112 bits), or the signature uses MD2, MD5 \
             or SHA-1. The signature of a self-signed CA is not judged. Undetermined for unknown key types.",
    references: &[
        "NIST SP 800-131A Rev. 2, 3",
        "NIST SP 800-57 Part 1 Rev. 5, table 2",
        "BSI TR-02102-1, 3",
        "RFC 6151",
        "RFC 6194",
    ],
    needs: &[Need::Services],
    run: Run::Map(run),
};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Broken {
    hashes: BTreeSet<String>,
}

trevlin_model::table! { static BROKEN: Broken = "../../tables/broken-hashes.toml"; }

fn run(estate: &EstateMap, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for at in 0..estate.devices.len() {
        for one in own(estate, at) {
            let path = estate.export(one.origin.export).path();
            let subject = || Subject::of(SubjectKind::Certificate).with(&one.subject).with(path);
            let (key, signature) = (of_key(one, baseline.at(at)), of_signature(one));
            match (key, signature) {
                (Verdict::Fail(key), Some(signature)) => {
                    answers.push(Answer::new(at, subject(), Verdict::Fail(key)));
                    answers.push(Answer::new(at, subject().with("signature"), signature));
                }
                (key, signature) => answers.push(Answer::new(at, subject(), signature.unwrap_or(key))),
            }
        }
    }
    answers
}

/// A fault of a certificate.
fn fail(one: &Certificate, severity: Severity, why: &str, title: String, detail: String) -> Verdict {
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: title.into(),
        detail: detail.into(),
        evidence: vec![one.origin],
    })
}

fn of_key(one: &Certificate, thresholds: &Thresholds) -> Verdict {
    match one.key.strength() {
        Some(bits) if u64::from(bits) < thresholds.key_strength => fail(
            one,
            CHECK.severity,
            "the private key can be computed from the certificate",
            format!("Certificate of `{}` has a weak key ({})", one.subject, one.key.words()),
            format!(
                "{} give about {bits} bits of security; {} are required.",
                one.key.words(),
                thresholds.key_strength
            ),
        ),
        Some(_) => Verdict::pass(one.origin),
        None => {
            let ask = format!(
                "Please state the key type in the certificate of `{}`: it is not known here.",
                one.subject
            );
            Verdict::ask(ask, vec![one.origin])
        }
    }
}

/// The verdict about a signature that is weak.
fn of_signature(one: &Certificate) -> Option<Verdict> {
    let broken = one.signature_hash.as_ref().is_some_and(|hash| BROKEN.hashes.contains(hash));
    (broken && !one.self_signed).then(|| {
        fail(
            one,
            Severity::Medium,
            "the hash of the signature is broken",
            format!("Certificate of `{}` has a weak signature ({})", one.subject, one.signature),
            format!("`{}` signed it with {}.", one.issuer, one.signature),
        )
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{certificate as pem, run};

    #[test]
    fn cases() {
        for (name, wanted) in [
            ("server", "pass d"),
            ("edwards", "pass d"),
            ("short-key", "fail high d c.pem:1"),
            ("signed-with-sha1", "fail medium d c.pem:1"),
            ("signed-with-pss-over-sha1", "fail medium d c.pem:1"),
            ("old-authority", "pass d"),
        ] {
            run(&CHECK, &[(name, &[("d/c.pem", pem(name))], &[wanted])]);
        }
        let both = "short-key-signed-with-sha1";
        run(&CHECK, &[(both, &[("d/c.pem", pem(both))], &["fail high d c.pem:1", "fail medium d c.pem:1"])]);
    }

    #[test]
    fn a_key_of_a_kind_that_is_not_known_is_a_question() {
        use trevlin_model::certificate::{KeyAlgorithm, PublicKey};
        let estate = crate::testing::estate(&[("d/c.pem", pem("server"))]);
        let mut one = estate.devices[0].facts.certificates[0].clone();
        one.key = PublicKey { algorithm: KeyAlgorithm::Other, bits: 0 };
        let verdict = of_key(&one, Baseline::on(jiff::civil::date(2026, 11, 25)).at(0));
        assert!(matches!(verdict, Verdict::Undetermined(_)));
    }
}
