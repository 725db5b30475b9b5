//! A secret that two devices share is weak.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::each_device;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_estate::words;
use trevlin_model::secret::Grade;
use trevlin_model::{Device, Origin, SecretRecord};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/weak-radius-secret",
    area: Area::Secrets,
    title: "Weak RADIUS shared secret",
    severity: Severity::High,
    why: "The shared secret alone protects passwords in requests and the integrity of responses. One recorded exchange \
          permits unlimited offline attempts; with the secret, an attacker reads passwords and accepts any login.",
    fix: "Give every client its own generated secret of at least 16 characters (RFC 2865, 3), or carry RADIUS over TLS or a \
          tunnel.",
    judged: "Fails where the secret of a client or of a configured server is easier to guess than a good password, \
             considering the names of client, device and organisation, or is shorter than 16 characters. One level lower for \
             clients on the server itself.",
    references: &["RFC 2865, 3", "RFC 6614", "NIST SP 800-63B, 5.1.1"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, baseline: &Baseline) -> Vec<Answer> {
    each_device(estate, |at| {
        let device = &estate.devices[at];
        let mut answers = Vec::new();
        let thresholds = baseline.at(at);
        for client in &device.facts.radius_clients {
            let what = format!("client `{}`", client.name);
            let verdict = match &client.secret {
                Some(held) => {
                    judge(estate, device, &what, held, client.origin, client.is_local(), thresholds)
                }
                None => Verdict::ask(
                    format!(
                        "Please state the length of the RADIUS secret of {what}, and how it was created: it is not in the \
                         export."
                    ),
                    vec![client.origin],
                ),
            };
            answers.push(Answer::new(at, Subject::of(SubjectKind::RadiusClient).with(&client.name), verdict));
        }
        let upstreams = device
            .facts
            .radius_upstreams
            .iter()
            .map(|one| (&one.server, &one.secret, one.origin, one.address));
        let targets =
            device.facts.radius_targets.iter().map(|one| (&one.server, &one.secret, one.origin, one.address));
        for (server, secret, origin, address) in upstreams.chain(targets) {
            let Some(held) = secret else { continue };
            let itself =
                address.is_some_and(|address| address.is_loopback()) || server.starts_with("localhost");
            let verdict =
                judge(estate, device, &format!("server `{server}`"), held, origin, itself, thresholds);
            answers.push(Answer::new(at, Subject::of(SubjectKind::RadiusServer).with(server), verdict));
        }
        answers
    })
}

fn judge(
    estate: &EstateMap,
    device: &Device,
    what: &str,
    held: &SecretRecord,
    origin: Origin,
    itself: bool,
    thresholds: &Thresholds,
) -> Verdict {
    if let Some(question) = super::withheld(held, &format!("the RADIUS secret of {what}")) {
        return question;
    }
    let words = words::against(estate, device, &[&held.owner]);
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    let (grade, length) = (held.secret.grade(&words), held.secret.length_class());
    if grade >= thresholds.shared_secret_grade
        && !held.secret.is_shorter_than(thresholds.shared_secret_length)
    {
        return Verdict::pass(origin);
    }
    let published = held.secret.known_default();
    let (severity, why) = match (itself, grade) {
        (true, _) => (Severity::Low, "only the server itself uses it"),
        (false, _) if published.is_some() => (Severity::Critical, "it is published"),
        (false, Grade::Trivial) => (Severity::Critical, "it is among the first that attackers try"),
        (false, Grade::Weak | Grade::Middling) => {
            (Severity::High, "it can be found offline from one recorded exchange")
        }
        (false, _) => (Severity::Medium, "it is short rather than easy to guess"),
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!(
            "RADIUS secret of {what} is {}",
            if grade < Grade::Good { grade.words() } else { "short" }
        )
        .into(),
        detail: format!(
            "Secret shared by {what} and {}: graded {} ({}).{}",
            device.name,
            grade.words(),
            length.words(),
            published.map_or_else(String::new, |known| format!(" It is published: {}.", known.source)),
        )
        .into(),
        evidence: vec![held.origin, origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (address, secret, wanted) in [
            ("10.4.0.9", "testing123", "fail critical d clients.conf:3 clients.conf:1"),
            ("127.0.0.1", "testing123", "fail low d clients.conf:3 clients.conf:1"),
            ("10.4.0.9", "gate2026", "fail critical d clients.conf:3 clients.conf:1"),
            ("10.4.0.9", "vK3!pw9-Zr", "fail medium d clients.conf:3 clients.conf:1"),
            ("10.4.0.9", "vK3!pw9-Zr7_qTx2mL", "pass d"),
        ] {
            let text = format!("client gate {{\n ipaddr = {address}\n secret = \"{secret}\"\n}}\n");
            run(&CHECK, &[(secret, &[("d/clients.conf", &text)], &[wanted])]);
        }
        run(
            &CHECK,
            &[("in comments", &[("d/clients.conf", "#client gate {\n# secret = testing123\n#}\n")], &[])],
        );
    }

    #[test]
    fn secrets_towards_servers() {
        for (line, wanted) in [
            ("10.4.0.9 testing123 3\n", "fail critical d pam_radius_auth.conf:1 pam_radius_auth.conf:1"),
            ("127.0.0.1 secret 3\n", "fail low d pam_radius_auth.conf:1 pam_radius_auth.conf:1"),
            ("# 10.4.0.9 testing123\n10.4.0.9 vK3!pw9-Zr7_qTx2mL\n", "pass d"),
        ] {
            run(&CHECK, &[(line, &[("d/etc/pam_radius_auth.conf", line)], &[wanted])]);
        }
    }

    #[test]
    fn a_secret_that_stands_elsewhere_is_a_question() {
        let text = "client gate {\n ipaddr = 10.4.0.9\n secret = ${gate_secret}\n}\n";
        run(&CHECK, &[("a variable", &[("d/clients.conf", text)], &["ask d"])]);
    }
}
