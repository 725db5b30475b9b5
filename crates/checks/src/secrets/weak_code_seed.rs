//! The seed of one-time codes is published, short or shared.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::some_names;
use std::collections::{BTreeMap, BTreeSet};
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
    needs: &[Need::Ssh],
    run: Run::Map(run),
};

/// Shortest seed (RFC 4226, 4, R6).
const BITS: usize = 128;

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let mut alike: BTreeMap<u64, Vec<&SecretRecord>> = BTreeMap::new();
        let seeds = device.facts.secrets.iter().filter(|held| held.kind == SecretKind::CodeSeed);
        for seed in seeds.filter(|held| !held.secret.is_withheld()) {
            alike.entry(seed.secret.code_seed_digest()).or_default().push(seed);
        }
        // The numbers differ between runs; the places do not.
        let mut groups: Vec<_> = alike.into_values().collect();
        groups.sort_by_key(|group| group[0].origin);
        for group in groups {
            let owners: BTreeSet<&str> = group.iter().map(|seed| seed.owner.as_str()).collect();
            let mut subject = Subject::of(SubjectKind::Secret).with(SecretKind::CodeSeed.key());
            for owner in &owners {
                subject = subject.with(*owner);
            }
            answers.push(Answer::new(at, subject, judge(&group, &owners)));
        }
    }
    answers
}

/// Judges one seed, which several users may have.
fn judge(group: &[&SecretRecord], owners: &BTreeSet<&str>) -> Verdict {
    let seed = group[0];
    let bits = seed.secret.code_seed_bits();
    let named: Vec<String> = owners.iter().map(|owner| format!("`{owner}`")).collect();
    let shared = match owners.len() {
        1 => String::new(),
        count => format!(" The seed is shared by {count} users, so a token of one makes the codes of all."),
    };
    let of_whom = match owners.len() {
        1 => format!("of {}", named[0]),
        count => format!("of {count} users"),
    };
    let (rating, title, detail) = if let Some(known) = seed.secret.published_code_seed() {
        (
            CHECK.rated_at(Severity::Critical, format!("it is published: {known}")),
            format!("Seed of the one-time codes {of_whom} is published"),
            format!("Any reader of the publication computes the codes of {}.{shared}", some_names(&named)),
        )
    } else if owners.len() > 1 {
        (
            CHECK.rated("one user's token makes the codes of another"),
            format!("One seed for the one-time codes {of_whom}"),
            format!("A token of one of {} makes the codes of all.", some_names(&named)),
        )
    } else if bits < BITS {
        (
            CHECK.rated_at(Severity::Medium, "codes must be observed first"),
            format!("Seed of the one-time codes {of_whom} is short"),
            format!("It has {bits} bits; {BITS} are required, and 160 are recommended."),
        )
    } else {
        return Verdict::pass(seed.origin);
    };
    let evidence = group.iter().map(|seed| seed.origin).collect();
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
                &["fail high d users.oath:1 users.oath:2"],
            ),
            // Two tokens of one user.
            (
                "HOTP/T30 ann - 00a1b2c3d4e5f60718293a4b5c6d7e8f90a1b2c3\nHOTP ann - 00a1b2c3d4e5f60718293a4b5c6d7e8f90a1b2c3\n",
                &["pass d"],
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
