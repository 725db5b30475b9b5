//! What a device logs leaves it as it is.

use crate::check::{Answer, Check, Control, Fail, Run, Verdict};
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
    why: "Names, addresses and sometimes passwords stand in the log, and whoever listens reads them. By UDP messages are lost without a trace, and \
          anybody can send forged ones.",
    fix: "Send by TCP with TLS (RFC 5425; `StreamDriver=\"gtls\" StreamDriverMode=\"1\"`, RELP with `tls=\"on\"`, `https://` for the journal), or inside a tunnel.",
    judged: "Fails for each collector that is sent messages without TLS; collectors on the device itself pass. Whether a tunnel carries them is not judged. Undetermined where a file that is \
             read in is not among the exports.",
    references: &["RFC 5424, 8", "RFC 5425", "NIST SP 800-92, 4.2"],
    controls: &[Control::grundschutz("OPS.1.1.5.A10")],
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
                Verdict::ask(format!("the log of {}: {question}", device.name), vec![*line]),
            )
        }));
        for target in targets {
            let verdict = if target.carried == TransportSecurity::Encrypted || is_local(&target.host) {
                Verdict::Pass
            } else {
                fail(&device.name, target)
            };
            answers.push(Answer::new(at, Subject::of(SubjectKind::Log).with(&target.host), verdict));
        }
    }
    answers
}

fn is_local(host: &str) -> bool {
    host == "localhost" || host.parse::<std::net::IpAddr>().is_ok_and(|address| address.is_loopback())
}

fn fail(device: &str, target: &LogTarget) -> Verdict {
    let why = if target.reliable {
        "what is lost is noticed, what is read is not"
    } else {
        "what is lost or forged is not noticed either"
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated(why),
        title: format!("{device} sends its log to {} without encryption", target.host).into(),
        detail: format!("Messages go by {}.", if target.reliable { "TCP" } else { "UDP" }).into(),
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
