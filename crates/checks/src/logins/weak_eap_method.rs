//! A RADIUS server accepts an EAP method that reveals the password hash.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::name_of;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::ipsec::IkeProof;
use trevlin_model::radius::EapSettings;
use trevlin_model::{Setting, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/weak-eap-method",
    area: Area::Logins,
    title: "Weak EAP method accepted",
    severity: Severity::Medium,
    why: "EAP-MD5 sends an MD5 value of a challenge and the password. An attacker who records one login can crack the \
          password offline, and the client cannot verify the server.",
    fix: "Remove the section `md5` from the EAP module and set `tls`, `ttls` or `peap` as the default. Inside the TLS tunnel \
          of the latter two a password method is acceptable. In IPsec connections, require `eap-tls` or a certificate.",
    judged: "Fails where an IPsec connection demands EAP-MD5, and where the EAP module of a RADIUS server defines the \
             method MD5, which any client may then request: medium where it is the default method, low otherwise. Low where strongSwan \
             demands MD5 or GTC inside PEAP or TTLS. Files \
             that are available but not enabled are not judged.",
    references: &["RFC 3748, 5.4 and 7.2", "RFC 4017, 2.2", "RFC 7296, 2.16"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        // A site runs the module, and the module was not exported.
        let run = device
            .facts
            .radius_sites
            .iter()
            .flat_map(|site| &site.authenticate)
            .find(|step| step.module == "eap");
        if let Some(step) = run.filter(|_| device.facts.eap_settings.is_empty()) {
            let ask = "Please provide `mods-enabled/eap`: it decides which EAP methods are accepted.";
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::Eap),
                Verdict::ask(ask, vec![step.origin]),
            ));
        }
        for settings in &device.facts.eap_settings {
            answers.push(Answer::new(at, Subject::of(SubjectKind::Eap), judge(settings)));
        }
        for tunnel in &device.facts.tunnels {
            answers
                .extend(of_tunnel(tunnel).map(|verdict| Answer::new(at, Subject::tunnel(tunnel), verdict)));
        }
    }
    answers
}

/// The method that an IPsec connection demands of its users; none where it demands no EAP (swanctl.conf(5), remote.auth; ipsec.conf(5),
/// rightauth).
fn of_tunnel(tunnel: &Tunnel) -> Option<Verdict> {
    let mut methods =
        tunnel.ipsec.iter().flat_map(|one| &one.remote).filter_map(|round| match &round.proof {
            Setting::Stated { value: IkeProof::Eap(method), origin } => Some((method.as_str(), *origin)),
            _ => None,
        });
    let (method, origin) = methods.next()?;
    let inner = tunnel.settings.iter().find_map(|(name, setting)| match setting {
        Setting::Stated { value, origin } if name.strip_prefix("inner-method-of-eap-") == Some(method) => {
            Some((value.as_str(), *origin))
        }
        _ => None,
    });
    if let Some((inner, stated)) = inner.filter(|(inner, _)| matches!(*inner, "md5" | "gtc")) {
        let name = inner.to_ascii_uppercase();
        return Some(Verdict::Fail(Fail {
            rating: CHECK.rated_at(Severity::Low, "the TLS tunnel of the outer method protects it"),
            title: format!("{} demands EAP-{name} inside EAP-{}", name_of(tunnel), method.to_ascii_uppercase()).into(),
            detail: format!(
                "EAP-{name} makes no key of its own: a client that does not verify the server's certificate reveals the \
                 password to any server."
            )
            .into(),
            evidence: vec![stated, origin],
        }));
    }
    if !method.eq_ignore_ascii_case("md5") {
        return Some(Verdict::pass(origin));
    }
    Some(Verdict::Fail(Fail {
        rating: CHECK.rated("it is the method that the connection demands"),
        title: format!("{} demands EAP-MD5", name_of(tunnel)).into(),
        detail: "The password is proved by an MD5 value, and the method makes no key that binds the login to the connection (RFC 7296, 2.16).".into(),
        evidence: vec![origin],
    }))
}

fn judge(settings: &EapSettings) -> Verdict {
    let Some((_, origin)) = settings.methods.iter().find(|(method, _)| method == "md5") else {
        return Verdict::pass_by(settings.methods.iter().map(|(_, origin)| *origin), settings.origin);
    };
    let first = settings.default_method.as_ref().filter(|(method, _)| method == "md5");
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(
            if first.is_some() { CHECK.severity } else { Severity::Low },
            if first.is_some() { "it is the default method" } else { "clients must request it" },
        ),
        title: "RADIUS server accepts EAP-MD5".into(),
        detail: "The method MD5 is defined outside any TLS tunnel.".into(),
        evidence: [*origin].into_iter().chain(first.map(|(_, origin)| *origin)).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (path, text, wanted) in [
            (
                "d/mods-enabled/eap",
                "eap {\n default_eap_type = md5\n md5 {\n }\n}\n",
                &["fail medium d eap:3 eap:2"][..],
            ),
            (
                "d/ipsec.conf",
                "conn c\n\tauto=add\n\tright=%any\n\trightauth=eap-md5\n",
                &["fail medium d ipsec.conf:4"],
            ),
            ("d/ipsec.conf", "conn c\n\tauto=add\n\tright=%any\n\trightauth=eap-mschapv2\n", &["pass d"]),
            (
                "d/ipsec.conf",
                "conn c\n\tauto=add\n\tright=%any\n\t#rightauth=eap-md5\n\trightauth=pubkey\n",
                &[],
            ),
            (
                "d/mods-enabled/eap",
                "eap {\n default_eap_type = peap\n md5 {\n }\n peap {\n }\n}\n",
                &["fail low d eap:3"],
            ),
            (
                "d/mods-enabled/eap",
                "eap {\n default_eap_type = peap\n # md5 {\n # }\n peap {\n }\n}\n",
                &["pass d"],
            ),
            (
                "d/mods-enabled/eap",
                "eap {\n default_eap_type = tls\n ttls {\n  default_eap_type = md5\n }\n}\n",
                &["pass d"],
            ),
            ("d/mods-available/eap", "eap {\n default_eap_type = md5\n md5 {\n }\n}\n", &[]),
        ] {
            run(&CHECK, &[(text, &[(path, text)], wanted)]);
        }
    }

    #[test]
    fn methods_inside_a_tunnel() {
        let connection = ("d/ipsec.conf", "conn c\n\tauto=add\n\tright=%any\n\trightauth=eap-ttls\n");
        let settings = |lines: &str| format!("charon {{\n plugins {{\n  eap-ttls {{\n{lines}  }}\n }}\n}}\n");
        for (lines, wanted) in [
            ("   phase2_method = md5\n", &["fail low d strongswan.conf:4 ipsec.conf:4"][..]),
            ("   phase2_method = mschapv2\n", &["pass d"]),
            ("   # phase2_method = md5\n", &["pass d"]),
        ] {
            run(&CHECK, &[(lines, &[connection, ("d/strongswan.conf", &settings(lines))], wanted)]);
        }
    }

    #[test]
    fn a_module_that_was_not_exported_is_a_question() {
        let site = |module: &str| {
            format!("server default {{\n authorize {{\n  files\n }}\n authenticate {{\n  {module}\n }}\n}}\n")
        };
        run(
            &CHECK,
            &[
                ("EAP", &[("d/default", &site("eap"))], &["ask d"]),
                ("none", &[("d/default", &site("pap"))], &[]),
            ],
        );
    }
}
