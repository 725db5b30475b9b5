//! A password is kept with a hash that is cheap to guess against.

use crate::{Answer, Area, Check, Estate, Fail, Severity, Verdict, Yardstick};
use trevlin_model::account::{HashScheme, StoredPassword};
use trevlin_model::{Device, Origin};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/weak-password-hash",
    area: Area::Secrets,
    title: "A password is kept with a weak hash",
    severity: Severity::Medium,
    why: "Whoever gets a copy of the file, a backup is enough, tries passwords against it without any limit. The older \
          schemes let one machine try millions or billions a second, so that all but the best passwords fall within days, \
          and people use the same password elsewhere.",
    fix: "Set yescrypt (or SHA-512 crypt with many rounds) as the scheme for new passwords, and have the owners of these \
          accounts change theirs: a hash cannot be converted.",
    judged: "Fails where a usable hash is of DES, MD5, NT or SHA-1 kind. Locked hashes and current schemes pass.",
    references: &["crypt(5)", "NIST SP 800-63B, 5.1.1.2", "BSI TR-02102-1, 5"],
    run,
};

fn run(estate: &Estate, _: &Yardstick) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for (name, scheme, origin) in hashes(device) {
            let verdict = if scheme.is_weak() { fail(name, scheme, origin) } else { Verdict::Pass };
            answers.push(Answer::new(at, name, verdict));
        }
    }
    answers
}

fn hashes(device: &Device) -> impl Iterator<Item = (&str, HashScheme, Origin)> {
    let accounts = device.facts.accounts.iter().map(|one| (one.name.as_str(), &one.password, one.origin));
    let shadow = device.facts.shadow.iter().map(|one| (one.name.as_str(), &one.password, one.origin));
    accounts.chain(shadow).filter_map(|(name, password, origin)| match password {
        StoredPassword::Hash { scheme, .. } => Some((name, *scheme, origin)),
        _ => None,
    })
}

fn fail(name: &str, scheme: HashScheme, origin: Origin) -> Verdict {
    let (severity, why) = match scheme {
        HashScheme::Nt | HashScheme::Des => (Severity::High, "billions of guesses a second are cheap"),
        _ => (CHECK.severity, "millions of guesses a second are cheap"),
    };
    Verdict::Fail(Fail {
        severity,
        why_this_severity: why.into(),
        title: format!("the password of `{name}` is kept as {}", scheme.name()),
        detail: format!("The hash of `{name}` was made with {}.", scheme.name()),
        evidence: vec![origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::checks::testing::run;

    #[test]
    fn cases() {
        for (field, wanted) in [
            ("$1$salt$abcdefgh", &["fail medium d shadow:1"][..]),
            ("abJnggxhB/yWI", &["fail high d shadow:1"]),
            ("$y$j9T$abc$def", &["pass d"]),
            ("$6$salt$abc", &["pass d"]),
            ("!$1$salt$abc", &[]),
            ("*", &[]),
            ("", &[]),
        ] {
            let text = format!("ann:{field}:19000:0:99999:7:::\n");
            run(&CHECK, &[(field, &[("d/etc/shadow", &text)], wanted)]);
        }
    }
}
