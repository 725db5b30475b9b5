//! Log messages leave a device unencrypted.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::housekeeping::LogTarget;
use trevlin_model::served::TransportSecurity;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/syslog-unencrypted",
    area: Area::Ciphers,
    title: "Log forwarding without TLS",
    severity: Severity::Low,
    why: "Log messages contain user names, addresses and sometimes passwords, and can be read in transit. Over UDP, messages \
          are lost unnoticed and can be forged.",
    fix: "Send logs over TCP with TLS (RFC 5425; `StreamDriver=\"gtls\" StreamDriverMode=\"1\"`, RELP with `tls=\"on\"`, \
          `https://` for the journal), or inside a tunnel.",
    judged: "Fails for each log destination without TLS; passes for destinations on the device itself. An enclosing tunnel \
             is not judged. Undetermined where an included file is missing.",
    references: &["RFC 5424, 8", "RFC 5425", "NIST SP 800-92, 4.2"],
    needs: &[Need::Log],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let targets = device.facts.log_keepers.iter().flat_map(|keeper| &keeper.targets);
        let open = device.facts.log_keepers.iter().find_map(|keeper| keeper.open.first());
        answers.extend(open.map(|(question, line)| {
            Answer::new(
                at,
                Subject::of(SubjectKind::Log),
                Verdict::ask(format!("Logging of {}: {question}", device.name), vec![*line]),
            )
        }));
        for target in targets {
            let hidden = target.carried == TransportSecurity::Encrypted || is_local(&target.host);
            let unsaid = device.facts.described.filter(|_| target.carried == TransportSecurity::Optional);
            let verdict = match unsaid {
                _ if hidden => Verdict::pass(target.origin),
                Some(described) => {
                    let about =
                        format!("whether log messages to {} are sent by TLS (`targets`)", target.host);
                    Verdict::ask(described.request(&about), vec![target.origin])
                }
                None => fail(target),
            };
            answers.push(Answer::new(at, Subject::of(SubjectKind::Log).with(&target.host), verdict));
        }
    }
    answers
}

fn is_local(host: &str) -> bool {
    host == "localhost" || host.parse::<std::net::IpAddr>().is_ok_and(|address| address.is_loopback())
}

fn fail(target: &LogTarget) -> Verdict {
    let why = if target.reliable {
        "lost messages are detected, eavesdropping is not"
    } else {
        "lost or forged messages are not detected either"
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated(why),
        title: format!("Log messages are sent to {} without TLS", target.host).into(),
        detail: format!("Transport: {}.", if target.reliable { "TCP" } else { "UDP" }).into(),
        evidence: vec![target.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (text, wanted) in [
            ("*.* @10.4.0.9\n", &["fail low d rsyslog.conf:1"][..]),
            ("*.* @@10.4.0.9\n", &["fail low d rsyslog.conf:1"]),
            ("$ActionSendStreamDriverMode 1\n*.* @@10.4.0.9\n", &["pass d"]),
            ("*.* @127.0.0.1\n", &["pass d"]),
            ("$IncludeConfig /etc/out.conf\n*.* /x\n", &["ask d"]),
            ("# *.* @10.4.0.9\n*.* /var/log/all\n", &[]),
        ] {
            run(&CHECK, &[(text, &[("d/etc/rsyslog.conf", text)], wanted)]);
        }
    }
}
