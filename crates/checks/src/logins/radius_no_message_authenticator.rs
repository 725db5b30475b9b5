//! A RADIUS server takes requests that are not signed.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::radius::{MessageAuthenticator, RadiusClient};
use trevlin_model::{Device, Setting};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/radius-no-message-authenticator",
    area: Area::Logins,
    title: "RADIUS requests accepted without Message-Authenticator",
    severity: Severity::Medium,
    why: "Without Message-Authenticator, only an MD5 construction protects a RADIUS response. An attacker on the path can \
          forge it within minutes (CVE-2024-3596) and turn a rejection into an acceptance, without knowing any password.",
    fix: "Set `require_message_authenticator = yes` for every client that supports it, update the others, and carry RADIUS \
          over TLS or a tunnel wherever it leaves a protected network.",
    judged: "Fails where Message-Authenticator is not required for a client, by setting or by default. One level lower for \
             `auto`, which requires it from the first signed request on. Does not apply to clients on the server itself.",
    references: &["CVE-2024-3596", "RFC 3579, 3.2", "RFC 5080, 2.2.2", "RFC 6614"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for client in &device.facts.radius_clients {
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::RadiusClient).with(&client.name),
                judge(device, client),
            ));
        }
    }
    answers
}

fn judge(device: &Device, client: &RadiusClient) -> Verdict {
    if client.is_local() {
        return Verdict::DoesNotApply;
    }
    // Where a client states nothing the server's setting applies, in the versions that have it.
    let whole = &device.facts.radius_security;
    let setting = match (
        &client.message_authenticator,
        whole.iter().find_map(|one| one.message_authenticator),
    ) {
        (Setting::Default(_), Some((value, origin))) => Setting::Stated { value, origin },
        (Setting::Default(_), None) if !whole.iter().any(|one| one.tells_security) => {
            let ask = format!(
                "Please provide `radiusd.conf` and the server version: they decide whether RADIUS client `{}` must send \
                 Message-Authenticator.",
                client.name
            );
            return Verdict::ask(ask, vec![client.origin]);
        }
        (own, _) => own.clone(),
    };
    let stated = setting.origin();
    let possible: Vec<_> = setting.possible().collect();
    let (severity, why, how) = if possible.iter().all(|one| **one == MessageAuthenticator::Required) {
        return Verdict::pass_setting(&setting, client.origin);
    } else if possible.iter().all(|one| **one == MessageAuthenticator::Learned) {
        (
            Severity::Low,
            "required from the first signed request on",
            "requires it from the first signed request on",
        )
    } else if stated.is_some() {
        (CHECK.severity, "the configuration does not require it", "does not require it")
    } else {
        (
            CHECK.severity,
            "it is not set, and no version requires it by default",
            "has no setting, and the default does not require it",
        )
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("Message-Authenticator not required for RADIUS client `{}`", client.name).into(),
        detail: format!("For client `{}` the server {how}.", client.name).into(),
        evidence: stated.into_iter().chain([client.origin, client.address_origin]).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (address, line, wanted) in [
            (
                "10.4.0.9",
                "require_message_authenticator = no",
                "fail medium d clients.conf:3 clients.conf:1 clients.conf:2",
            ),
            (
                "10.4.0.9",
                "require_message_authenticator = auto",
                "fail low d clients.conf:3 clients.conf:1 clients.conf:2",
            ),
            ("10.4.0.9", "shortname = a", "ask d"),
            ("10.4.0.9", "# require_message_authenticator = yes", "ask d"),
            ("10.4.0.9", "require_message_authenticator = yes", "pass d"),
            ("::1", "require_message_authenticator = no", "none d"),
        ] {
            let key = if address.contains(':') { "ipv6addr" } else { "ipaddr" };
            let text = format!("client gate {{\n {key} = {address}\n {line}\n secret = x\n}}\n");
            run(&CHECK, &[(line, &[("d/clients.conf", &text)], &[wanted])]);
        }
    }

    #[test]
    fn what_the_server_as_a_whole_says() {
        let client = ("d/clients.conf", "client gate {\n ipaddr = 10.4.0.9\n secret = x\n}\n");
        for (line, wanted) in [
            ("reject_delay = 1", "fail medium d clients.conf:1 clients.conf:2"),
            ("reject_delay = 1\n require_message_authenticator = yes", "pass d"),
            (
                "reject_delay = 1\n require_message_authenticator = auto",
                "fail low d radiusd.conf:3 clients.conf:1 clients.conf:2",
            ),
            (
                "reject_delay = 1\n #require_message_authenticator = yes",
                "fail medium d clients.conf:1 clients.conf:2",
            ),
        ] {
            let text = format!("security {{\n {line}\n}}\n");
            run(&CHECK, &[(line, &[client, ("d/radiusd.conf", &text)], &[wanted])]);
        }
    }
}
