//! A client for dynamic names keeps its token in clear.

use crate::check::{Answer, Check, Control, Fail, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/dynamic-dns-token",
    area: Area::Secrets,
    title: "Dynamic-DNS credentials in clear text",
    severity: Severity::Medium,
    why: "Whoever has the token points the name somewhere else, and callers with it: to a server of his own that \
          asks for their passwords. The name itself tells the world where the entrance is.",
    fix: "Ask the provider for a token that may change this one name only, keep the file for the service's own user, \
          send it encrypted, and change it now that it has been in an export.",
    judged: "Fails for each client whose file holds a token or password; a step graver where it also goes over the \
             network in plain text. Passes where the file holds none.",
    references: &["ddclient(8)", "inadyn.conf(5)", "RFC 2136, 8"],
    controls: &[Control::grundschutz("ORP.4.A23")],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for client in &device.facts.dynamic_names {
            let names: Vec<&str> = client.names.iter().map(|(name, _)| name.as_str()).collect();
            let subject = Subject::of(SubjectKind::DynamicName).with(client.program).with(names.join(" "));
            let Some(token) = client.token else {
                answers.push(Answer::new(at, subject, Verdict::Pass));
                continue;
            };
            let published = match names.as_slice() {
                [] => "the name it publishes is not in the file".to_owned(),
                names => format!("it publishes {}", names.join(", ")),
            };
            let (severity, why) = match client.plain {
                Some(_) => (Severity::High, "it also goes over the network in plain text"),
                None => (CHECK.severity, "it works for whoever has the file"),
            };
            let verdict = Verdict::Fail(Fail {
                rating: CHECK.rated_at(severity, why),
                title: format!("{} keeps the token for a public name in clear", client.program).into(),
                detail: format!("The token stands in its file; {published}.").into(),
                evidence: [token]
                    .into_iter()
                    .chain(client.plain)
                    .chain(client.names.first().map(|one| one.1))
                    .collect(),
            });
            answers.push(Answer::new(at, subject, verdict));
        }
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const HEAD: &str = "use=web\nprotocol=dyndns2\nserver=update.names.example\nlogin=harbour\n";
        for (lines, wanted) in [
            (
                "ssl=yes\npassword=Sesame9\ngate.names.example\n",
                "fail medium d ddclient.conf:6 ddclient.conf:7",
            ),
            (
                "password=Sesame9\ngate.names.example\n",
                "fail high d ddclient.conf:5 ddclient.conf:5 ddclient.conf:6",
            ),
            ("ssl=yes\n# password=Sesame9\ngate.names.example\n", "pass d"),
            ("ssl=yes\npassword=\ngate.names.example\n", "pass d"),
        ] {
            run(&CHECK, &[("client", &[("d/etc/ddclient.conf", &format!("{HEAD}{lines}"))], &[wanted])]);
        }
    }
}
