//! A client for dynamic names keeps its token in clear.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::logins::capital;
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
    why: "With the token, an attacker redirects the host name, and clients connect to the attacker's server and reveal their \
          passwords. The public name also shows where the remote-access gateway is.",
    fix: "Use a token limited to this host name, restrict read access to the file, send updates over TLS, and replace the \
          token, since it is now in an export.",
    judged: "Fails for each client with a token or password in its configuration; one level higher where it is also sent in \
             clear text. Passes where the file contains none.",
    references: &["ddclient(8)", "inadyn.conf(5)", "RFC 2136, 8"],
    needs: &[Need::SavedLogins],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for client in &device.facts.dynamic_names {
            let names: Vec<&str> = client.names.iter().map(|(name, _)| name.as_str()).collect();
            let subject = Subject::of(SubjectKind::DynamicName).with(client.program).with(names.join(" "));
            // How an appliance stores it is not to be seen on a screen; how it sends it may be.
            let shown = client.token.filter(|_| !estate.is_appliance(at) || client.plain.is_some());
            let Some(token) = shown else {
                answers.push(Answer::new(at, subject, Verdict::pass(client.origin)));
                continue;
            };
            let published = match names.as_slice() {
                [] => "its host name is not in the file".to_owned(),
                names => format!("host name: {}", names.join(", ")),
            };
            let (severity, why) = match client.plain {
                Some(_) => (Severity::High, "it is also sent over the network in clear text"),
                None => (CHECK.severity, "it is usable by anyone who reads the file"),
            };
            let (title, detail) = match (estate.is_appliance(at), client.plain) {
                (true, Some(_)) => ("sends", "The token is sent without encryption"),
                _ => ("stores", "The token is in its configuration"),
            };
            let of = match names.as_slice() {
                [] => String::new(),
                [one] => format!(" of {one}"),
                [first, rest @ ..] => format!(" of {first} and {} more", rest.len()),
            };
            let verdict = Verdict::Fail(Fail {
                rating: CHECK.rated_at(severity, why),
                title: format!(
                    "{} {title} dynamic-DNS credentials{of} in clear text",
                    capital(client.program)
                )
                .into(),
                detail: format!("{detail}; {published}.").into(),
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
