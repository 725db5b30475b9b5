//! A dial-in tunnel takes passwords by a weak method.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::the;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::assemble::DialIn;
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Device, SecretsFile, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/weak-ppp-authentication",
    area: Area::Logins,
    title: "PAP, CHAP or MS-CHAP accepted",
    severity: Severity::High,
    why: "PAP sends the password in clear text. CHAP and MS-CHAPv1 can be cracked offline, and neither supports strong link \
          encryption. A client that is offered several methods may use the weakest.",
    fix: "Require MS-CHAPv2 alone where the protocol must stay (`require-mschap-v2`), or EAP with certificates. Better, \
          replace the tunnel.",
    judged: "Fails where PAP, CHAP or MS-CHAPv1 is required, or where authentication is required without a method, so that \
             every method with a secrets file is accepted. Passes for MS-CHAPv2 and EAP alone; other checks judge the tunnel \
             around them. `refuse-` options concern the login of the daemon itself. Undetermined where options were not \
             exported.",
    references: &["pppd(8), AUTHENTICATION", "RFC 1334, 2", "RFC 2433", "RFC 2759", "RFC 1994, 1"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for (number, tunnel) in device.facts.tunnels.iter().enumerate() {
            if let Some(dial_in) = estate.dial_in(at, number).filter(|_| tunnel.accepts_clients()) {
                answers.extend(
                    judge(device, tunnel, dial_in)
                        .map(|verdict| Answer::new(at, Subject::tunnel(tunnel), verdict)),
                );
            }
        }
    }
    answers
}

fn judge(device: &Device, tunnel: &Tunnel, dial_in: &DialIn) -> Option<Verdict> {
    const WEAK: [(&str, &str, Severity); 3] = [
        ("pap", "PAP", Severity::High),
        ("mschap", "MS-CHAPv1", Severity::High),
        ("chap", "CHAP", Severity::Medium),
    ];
    let profile = &dial_in.profile;
    for (method, name, severity) in WEAK {
        if let Some((_, origin)) = profile.require.iter().find(|(required, _)| *required == method) {
            return Some(Verdict::Fail(Fail {
                rating: CHECK.rated_at(severity, format!("{name} is required by the options")),
                title: format!("{name} accepted at {}", the(tunnel)).into(),
                detail: format!("Clients may authenticate by {name}.").into(),
                evidence: vec![*origin, tunnel.origin],
            }));
        }
    }
    if !profile.require.is_empty() {
        return Some(Verdict::pass_by(profile.require.iter().map(|(_, origin)| *origin), tunnel.origin));
    }
    if let Some(missing) = dial_in.missing.first() {
        return Some(Verdict::ask_reference(
            missing,
            &format!("which authentication methods {} accepts", the(tunnel)),
        ));
    }
    // No authentication is required: another check reports it.
    let (true, origin) = profile.auth? else { return None };
    let usable = |file| device.facts.credentials.iter().any(|one| one.file == file);
    let pap = usable(SecretsFile::Pap) || profile.login.is_some();
    let words = if pap { "PAP, CHAP, MS-CHAPv1 and MS-CHAPv2" } else { "CHAP, MS-CHAPv1 and MS-CHAPv2" };
    Some(Verdict::Fail(Fail {
        rating: CHECK.rated_at(
            if pap { Severity::High } else { Severity::Medium },
            if pap { "passwords may be sent in clear text" } else { "the weakest method decides" },
        ),
        title: format!("Every PPP authentication method accepted at {}", the(tunnel)).into(),
        detail: format!("Clients may authenticate by {words}.").into(),
        evidence: vec![origin, tunnel.origin],
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const SERVER: (&str, &str) = ("d/pptpd.conf", "option /etc/ppp/pptpd-options\nremoteip 10.4.0.9\n");
        const SYSTEM: (&str, &str) = ("d/etc/ppp/options", "lock\n");
        for (options, wanted) in [
            ("require-mschap-v2\n", &["pass d"][..]),
            ("require-mschap-v2\nrequire-pap\n", &["fail high d pptpd-options:2 pptpd.conf:2"]),
            ("require-chap\n", &["fail medium d pptpd-options:1 pptpd.conf:2"]),
            ("require-mschap\n", &["fail high d pptpd-options:1 pptpd.conf:2"]),
            ("auth\n", &["fail medium d pptpd-options:1 pptpd.conf:2"]),
            ("auth\nlogin\n", &["fail high d pptpd-options:1 pptpd.conf:2"]),
            ("auth\nrefuse-pap\n", &["fail medium d pptpd-options:1 pptpd.conf:2"]),
            ("require-mschap-v2 # require-pap\n", &["pass d"]),
            ("noauth\n", &[]),
        ] {
            run(&CHECK, &[(options, &[SERVER, SYSTEM, ("d/etc/ppp/pptpd-options", options)], wanted)]);
        }
        run(&CHECK, &[("options not exported", &[SERVER], &["ask d"])]);
    }
}
