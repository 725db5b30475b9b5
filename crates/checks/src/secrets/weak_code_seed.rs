//! The seed of one-time codes is published, short or shared.

use crate::check::{Answer, Check, Control, Fail, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeMap;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::SecretRecord;
use trevlin_model::secret::SecretKind;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/weak-code-seed",
    area: Area::Secrets,
    title: "Weak seed of one-time codes",
    severity: Severity::High,
    why: "All codes follow from the seed. With a published or short seed an attacker computes them, and with a shared seed one \
          user's token makes the codes of another: the second factor is one in name only.",
    fix: "Generate a seed of 160 bits for every user and enrol the token again.",
    judged: "Fails for a seed that is published as a test value or an example (critical), that two users have, or that has \
             fewer than 128 bits. Passes for others. Whether the file is protected is not visible in an export.",
    references: &["RFC 4226, 4 (R6) and Appendix D", "RFC 6238, Appendix B", "NIST SP 800-63B, 5.1.4.1"],
    controls: &[Control::grundschutz("ORP.4.A21"), Control::sp800_53("IA-5(1)")],
    run: Run::Map(run),
};

/// Shortest seed (RFC 4226, 4, R6).
const BITS: usize = 128;

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let seeds: Vec<&SecretRecord> = device
            .facts
            .secrets
            .iter()
            .map(|held| &**held)
            .filter(|held| held.kind == SecretKind::CodeSeed && !held.secret.is_withheld())
            .collect();
        let mut alike: BTreeMap<u64, Vec<&SecretRecord>> = BTreeMap::new();
        for seed in &seeds {
            alike.entry(seed.secret.code_seed_digest()).or_default().push(seed);
        }
        for seed in &seeds {
            let same = &alike[&seed.secret.code_seed_digest()];
            let other = same.iter().find(|one| one.owner != seed.owner);
            let subject = Subject::of(SubjectKind::Secret).with(SecretKind::CodeSeed.key()).with(&seed.owner);
            answers.push(Answer::new(at, subject, judge(seed, other.copied())));
        }
    }
    answers
}

fn judge(seed: &SecretRecord, other: Option<&SecretRecord>) -> Verdict {
    let owner = &seed.owner;
    let bits = seed.secret.code_seed_bits();
    let mut evidence = vec![seed.origin];
    let (rating, title, detail) = if let Some(known) = seed.secret.published_code_seed() {
        (
            CHECK.rated_at(Severity::Critical, format!("it is published: {known}")),
            format!("Seed of one-time codes of `{owner}` is published"),
            "Any reader of the document computes every code.".to_owned(),
        )
    } else if let Some(other) = other {
        evidence.push(other.origin);
        (
            CHECK.rated("one user's token makes the codes of another"),
            format!("`{owner}` and `{}` have the same seed of one-time codes", other.owner),
            "A token of one of them produces the codes of both.".to_owned(),
        )
    } else if bits < BITS {
        (
            CHECK.rated_at(Severity::Medium, "a few observed codes must be known first"),
            format!("Seed of one-time codes of `{owner}` is short"),
            format!("It has {bits} bits; {BITS} are required, and 160 recommended."),
        )
    } else {
        return Verdict::Pass;
    };
    Verdict::Fail(Fail { rating, title: title.into(), detail: detail.into(), evidence })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (text, wanted) in [
            (
                "HOTP/T30 ann - 3132333435363738393031323334353637383930\n",
                &["fail critical d users.oath:1"][..],
            ),
            ("HOTP/T30 ann - 00a1b2c3d4e5f60718293a4b5c6d7e8f90a1b2c3\n", &["pass d"]),
            ("HOTP/T30 ann - 00a1b2c3d4e5f607\n", &["fail medium d users.oath:1"]),
            (
                "HOTP/T30 ann - 00a1b2c3d4e5f60718293a4b5c6d7e8f90a1b2c3\nHOTP/T30 bob - 00A1B2C3D4E5F60718293A4B5C6D7E8F90A1B2C3\n",
                &["fail high d users.oath:1 users.oath:2", "fail high d users.oath:2 users.oath:1"],
            ),
            // Two tokens of one user.
            (
                "HOTP/T30 ann - 00a1b2c3d4e5f60718293a4b5c6d7e8f90a1b2c3\nHOTP ann - 00a1b2c3d4e5f60718293a4b5c6d7e8f90a1b2c3\n",
                &["pass d", "pass d"],
            ),
            ("#HOTP/T30 ann - 3132333435363738393031323334353637383930\n", &[]),
        ] {
            run(&CHECK, &[(text, &[("d/etc/users.oath", text)], wanted)]);
        }
        let home = "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ\n\" TOTP_AUTH\n12345678\n";
        run(
            &CHECK,
            &[(
                "in Base32",
                &[("d/home/ann/.google_authenticator", home)],
                &["fail critical d .google_authenticator:1"],
            )],
        );
    }
}
