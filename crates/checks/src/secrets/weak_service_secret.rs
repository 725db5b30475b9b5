//! A secret that protects a service is weak.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::each_device;
use crate::support::serving::of_device;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::words;
use trevlin_model::SecretRecord;
use trevlin_model::secret::{Grade, SecretKind};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/weak-service-secret",
    area: Area::Secrets,
    title: "Weak SNMP community, service password or Wi-Fi passphrase",
    severity: Severity::High,
    why: "One secret protects the service for all its users, without a lockout after failed attempts. Against a recorded \
          connection it can be guessed offline.",
    fix: "Use a generated secret of at least 15 characters, different for each service, and change it when staff leave. \
          Where the service supports certificates or individual accounts, use them.",
    judged: "Fails where a community, the password of a cache, target, module or page, or the passphrase of an SNMP user or \
             Wi-Fi network is easier to guess than a good password, considering the names of device and organisation, or \
             shorter than 8 characters. Lower for a service that is local or disabled.",
    references: &["NIST SP 800-63B, 5.1.1", "RFC 3414, 11.2", "RFC 1994, 2.3", "CISA TA17-156A"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    each_device(estate, |at| {
        let device = &estate.devices[at];
        let mut answers = Vec::new();
        let mut seen = BTreeSet::new();
        let mut before: BTreeMap<(SecretKind, &str), Vec<&SecretRecord>> = BTreeMap::new();
        for held in &device.facts.secrets {
            let judged = match held.kind {
                SecretKind::Community
                | SecretKind::TrapCommunity
                | SecretKind::ServicePassword
                | SecretKind::RadioPassphrase => true,
                // Passphrases of keys are reported with their keys.
                SecretKind::Passphrase => is_of_service(estate, held),
                _ => false,
            };
            // One word in two lines, for both versions of IP, is one secret.
            let alike = before.entry((held.kind, held.owner.as_str())).or_default();
            let same = |one: &&SecretRecord| one.secret.same_as(&held.secret);
            if judged && seen.insert(held.origin) && !alike.iter().any(same) {
                alike.push(held);
                let subject = Subject::of(SubjectKind::Secret).with(held.kind.key()).with(&held.owner);
                answers.push(Answer::new(at, subject, judge(estate, at, held, baseline)));
            }
        }
        answers
    })
}

/// Whether it is in a line of a service.
fn is_of_service(estate: &Analyses, held: &SecretRecord) -> bool {
    const WORD: &str = "createuser";
    let export = estate.export(held.origin.export);
    let line = export.line(export.line_of(held.origin.start)).map_or("", |line| line.text.trim_start());
    line.get(..WORD.len()).is_some_and(|first| first.eq_ignore_ascii_case(WORD))
}

fn judge(estate: &Analyses, at: usize, held: &SecretRecord, baseline: &Baseline) -> Verdict {
    let (device, thresholds) = (&estate.devices[at], baseline.at(at));
    let words = words::against(estate, device, &[&held.owner]);
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    let (grade, length) = (held.secret.grade(&words), held.secret.length_class());
    if grade >= thresholds.service_secret_grade
        && !held.secret.is_shorter_than(thresholds.service_secret_length)
    {
        return Verdict::pass(held.origin);
    }
    let published = held.secret.known_default();
    // The password of a service is guessed as that of a login is.
    let password = held.kind == SecretKind::ServicePassword;
    let worst = if password { Severity::Critical } else { CHECK.severity };
    let mut rating = match grade {
        _ if published.is_some() => CHECK.rated_at(worst, "it is published"),
        Grade::Trivial => CHECK.rated_at(worst, "it is among the first that attackers try"),
        Grade::Weak if password => CHECK.rated("it can be guessed over the network"),
        Grade::Weak | Grade::Middling => {
            CHECK.rating().lowered("guessing it takes more than a list of common values")
        }
        _ => CHECK.rating().lowered("it is short rather than easy to guess"),
    };
    // The service that the file is about says who can try.
    let mut evidence = vec![held.origin];
    let service = of_device(estate, at).find(|one| {
        one.served.origin.export == held.origin.export
            || one.served.parts.iter().any(|part| part.origin.export == held.origin.export)
    });
    if held.kind == SecretKind::TrapCommunity {
        rating = rating.at(Severity::Info, "it is sent with notifications and grants no access here");
    } else if let Some(one) = service {
        if one.served.is_local() {
            rating = rating.at(Severity::Info, "the service is limited to the device itself");
        } else {
            let part =
                one.served.parts.iter().find(|part| {
                    part.origin.start <= held.origin.start && held.origin.end <= part.origin.end
                });
            match part {
                Some(part) if part.sources.is_local() => {
                    rating = rating.at(Severity::Info, "only the device itself may use it");
                }

                _ => {
                    let sources = part
                        .map_or_else(trevlin_model::served::Sources::everybody, |part| part.sources.clone());
                    let (rated, lines) = one.rate(rating, &sources);
                    rating = rated;
                    evidence.extend(lines);
                }
            }
        }
    }
    let known = published.map_or_else(String::new, |known| format!(" It is published: {}.", known.source));
    Verdict::Fail(Fail {
        rating,
        title: format!(
            "{} of {} is {}",
            held.kind.words(),
            held.owner,
            if grade < thresholds.service_secret_grade { grade.words() } else { "short" }
        )
        .into(),
        detail: format!("Graded {} ({}).{known}", grade.words(), length.words()).into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (file, text, wanted) in [
            ("snmp/snmpd.conf", "rocommunity public\n", &["fail high d snmpd.conf:1"][..]),
            (
                "snmp/snmpd.conf",
                "rocommunity public 127.0.0.1\nagentaddress 127.0.0.1\n",
                &["fail info d snmpd.conf:1"],
            ),
            (
                "snmp/snmpd.conf",
                "rocommunity public 127.0.0.1\nrouser ann priv\n",
                &["fail info d snmpd.conf:1"],
            ),
            ("snmp/snmpd.conf", "rouser ann priv\ntrapsink 10.4.0.9 public\n", &["fail info d snmpd.conf:2"]),
            ("snmp/snmpd.conf", "rocommunity vK3pw9Zr7qTx2mLw\n", &["pass d"]),
            ("snmp/snmpd.conf", "# rocommunity public\nrouser ann priv\n", &[]),
            (
                "snmp/snmpd.conf",
                "createUser ann SHA password AES\nrouser ann priv\n",
                &["fail high d snmpd.conf:1"],
            ),
            ("redis/redis.conf", "requirepass redis\n", &["fail critical d redis.conf:1"]),
            ("redis/redis.conf", "requirepass vK3!pw9-Zr7_qTx2mL\n", &["pass d"]),
            (
                "hostapd/hostapd.conf",
                "ssid=quay\ninterface=wlan0\nwpa=2\nwpa_passphrase=12345678\n",
                &["fail high d hostapd.conf:4"],
            ),
            (
                "haproxy/haproxy.cfg",
                "frontend f\n bind :80\n stats auth ann:admin\n",
                &["fail critical d haproxy.cfg:3"],
            ),
        ] {
            run(&CHECK, &[(text, &[(&format!("d/etc/{file}"), text)], wanted)]);
        }
    }
}
