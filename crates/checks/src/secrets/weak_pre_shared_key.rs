//! A pre-shared key for IKE is weak.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::{each_device, ike};
use std::collections::BTreeSet;
use std::sync::Arc;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_estate::words;
use trevlin_model::ike::PreSharedKey;
use trevlin_model::secret::{KeyGrade, SecretKind};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/weak-pre-shared-key",
    area: Area::Secrets,
    title: "Weak pre-shared key",
    severity: Severity::High,
    why: "An attacker who records one exchange, or provokes one in aggressive mode, tries keys offline, unlimited and \
          unnoticed. A key chosen by a person, or the name of the organisation, is found that way, and the attacker can then \
          impersonate either end.",
    fix: "Use a generated key of at least 22 letters and digits or 32 hexadecimal digits, different for every tunnel, or use \
          certificates.",
    judged: "Fails where the key has less entropy than the baseline requires (112 bits), as far as its characters show, or \
             consists of names, words and patterns, or is published. Encodings (`0x`, `0s`) are resolved first.",
    references: &["NIST SP 800-77 Rev. 1, 3.2", "RFC 7296, 2.15", "RFC 8247, 3", "BSI TR-02102-3, 3.3"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, baseline: &Baseline) -> Vec<Answer> {
    each_device(estate, |at| {
        let mut answers: Vec<Answer> = ike::keys_not_exported(estate, at).into_iter().collect();
        for key in &estate.devices[at].facts.pre_shared_keys {
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::PreSharedKey).with(key.identities.join(" ")),
                judge(estate, at, key, baseline.at(at)),
            ));
        }
        // Keys of programs other than the IKE daemon, such as for TLS.
        let device = &estate.devices[at];
        let known: BTreeSet<_> = device.facts.pre_shared_keys.iter().map(|key| key.held.origin).collect();
        let others = device.facts.secrets.iter().filter(|held| held.kind == SecretKind::PreSharedKey);
        for held in others.filter(|held| !known.contains(&held.origin)) {
            let key = PreSharedKey {
                identities: vec![held.owner.clone()],
                held: Arc::clone(held),
                origin: held.origin,
            };
            let subject = Subject::of(SubjectKind::PreSharedKey).with(&held.owner);
            answers.push(Answer::new(at, subject, judge(estate, at, &key, baseline.at(at))));
        }
        answers
    })
}

/// A key's grade against the names of its ends, the device and the organisation.
fn assess(estate: &EstateMap, at: usize, key: &PreSharedKey, thresholds: &Thresholds) -> KeyGrade {
    let names: Vec<&str> = key.identities.iter().map(String::as_str).collect();
    let words = words::against(estate, &estate.devices[at], &names);
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    key.held.secret.key_grade(thresholds.key_strength, thresholds.guessing_bits, &words)
}

/// A key's grade as a rank, the weakest lowest, and a word.
pub fn grade(estate: &EstateMap, at: usize, key: &PreSharedKey, baseline: &Baseline) -> (u8, &'static str) {
    match assess(estate, at, key, baseline.at(at)) {
        _ if key.held.secret.is_withheld() => (4, "not known"),
        _ if key.held.secret.known_default().is_some() => (0, "trivial"),
        KeyGrade::Trivial => (0, "trivial"),
        KeyGrade::Weak => (1, "weak"),
        KeyGrade::Short => (2, "short"),
        KeyGrade::Holds => (3, "strong"),
    }
}

/// Severity of a key of this rank, where it is weak.
#[must_use]
pub fn severity(rank: u8) -> Option<Severity> {
    [Severity::Critical, Severity::High, Severity::Medium].get(usize::from(rank)).copied()
}

fn judge(estate: &EstateMap, at: usize, key: &PreSharedKey, thresholds: &Thresholds) -> Verdict {
    if let Some(question) = super::withheld(&key.held, &format!("key for {}", key.whom())) {
        return question;
    }
    let secret = &key.held.secret;
    let grade = assess(estate, at, key, thresholds);
    let (severity, word, why) = match (secret.known_default(), grade) {
        (_, KeyGrade::Holds) => return Verdict::pass(key.origin),
        (Some(known), _) => (Severity::Critical, "trivial", format!("it is published: {}", known.source)),
        (_, KeyGrade::Trivial) => {
            (Severity::Critical, "trivial", "it is among the first that attackers try".to_owned())
        }
        // Pre-shared keys can be guessed offline, billions per second; resistance to online guessing is not enough.
        (_, KeyGrade::Weak) => {
            (Severity::High, "weak", "it can be found offline from one recorded exchange".to_owned())
        }
        (_, KeyGrade::Short) => (
            Severity::Medium,
            "low in entropy",
            "it withstands casual guessing, and is below the requirement of the baseline".to_owned(),
        ),
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("Pre-shared key for {} is {word}", key.whom()).into(),
        detail: format!(
            "Its entropy is below the {} bits required of a key ({}).",
            thresholds.key_strength,
            secret.length_class().words()
        )
        .into(),
        evidence: vec![key.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, estate_with};

    #[test]
    fn cases() {
        for (value, wanted) in [
            ("\"Xk7vQ2mZ9pLr4TnWc8yBd3\"", "pass d"),
            ("0x93e0c7a15fb2648d07e9a4c2d81b36f5", "pass d"),
            ("0sk+DHoV+yZI0H6aTC2Bs29Q==", "pass d"),
            ("\"Qvintharbel-Zoskamor\"", "fail critical d ipsec.secrets:1"),
            ("0x5176696e7468617262656c", "fail critical d ipsec.secrets:1"),
            ("\"Summer2026\"", "fail critical d ipsec.secrets:1"),
            ("\"north-vpn-2026\"", "fail critical d ipsec.secrets:1"),
            ("\"qwertyuiop\"", "fail critical d ipsec.secrets:1"),
            ("0sFpZAZqEN6Ti9sqt4ZP5EWcqx", "fail critical d ipsec.secrets:1"),
            ("\"v+NkxY9LLZvwj4qCC2o/gGrWDF2d21jL\"", "fail critical d ipsec.secrets:1"),
            ("\"vK3!pw9-Zr\"", "fail medium d ipsec.secrets:1"),
            ("\"correct horse battery staple\"", "fail high d ipsec.secrets:1"),
        ] {
            let text = format!("@d.example @north.example : PSK {value}\n");
            let estate =
                estate_with(&[("d/ipsec.secrets", &text)], "organisation = \"Qvintharbel Zoskamor\"");
            assert_eq!(answers(&CHECK, &estate), [wanted], "{value}");
        }
        let commented = estate_with(&[("d/ipsec.secrets", "# : PSK \"secret\"\nann : EAP \"x\"\n")], "");
        assert!(answers(&CHECK, &commented).is_empty());
    }

    #[test]
    fn a_file_that_is_read_in_and_missing_is_a_question() {
        ike::asks_for_missing_files(&CHECK);
    }
}
