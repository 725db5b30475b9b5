//! A dial-in tunnel does not require encryption.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::the;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::assemble::DialIn;
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Mppe, Tunnel, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/ppp-encryption-optional",
    area: Area::Tunnels,
    title: "PPP encryption not required",
    severity: Severity::High,
    why: "PPP encryption is negotiated. If the server does not require it, an attacker on the path removes it from the \
          negotiation, and traffic is sent in clear text without notice.",
    fix: "Require 128-bit encryption (`require-mppe-128`), which rejects links without it. Better, replace the \
          tunnel by one with current encryption.",
    judged: "Fails where MPPE is not required or disabled; one level lower where 40-bit keys are accepted. Passes with \
             `require-mppe-128`, and with `require-mppe` and `nomppe-40`. Undetermined where options were not exported.",
    references: &["pppd(8), require-mppe", "RFC 3078, 1", "RFC 3079"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for (number, tunnel) in device.facts.tunnels.iter().enumerate() {
            // L2TP traffic is encrypted by IPsec.
            let asked = tunnel.accepts_clients() && tunnel.family == TunnelFamily::Pptp;
            if let Some(dial_in) = estate.dial_in(at, number).filter(|_| asked) {
                answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(tunnel, dial_in)));
            }
        }
    }
    answers
}

fn judge(tunnel: &Tunnel, dial_in: &DialIn) -> Verdict {
    let (severity, title, detail, origin) = match dial_in.profile.encryption() {
        Some((Mppe::Required128, origin)) => return Verdict::pass(origin),
        Some((Mppe::Required | Mppe::Required40, origin)) => (
            Severity::Medium,
            format!("40-bit encryption keys accepted at {}", the(tunnel)),
            "Encryption is required, and 40-bit keys are accepted.",
            origin,
        ),
        Some((Mppe::Off, origin)) => (
            Severity::High,
            format!("Encryption is disabled at {}", the(tunnel)),
            "Encryption by MPPE is switched off.",
            origin,
        ),
        Some((Mppe::Optional, origin)) => (
            Severity::High,
            format!("Encryption is not required at {}", the(tunnel)),
            "Encryption is optional, so unencrypted links are accepted.",
            origin,
        ),
        None => {
            if let Some(missing) = dial_in.missing.first() {
                return Verdict::ask_reference(
                    missing,
                    &format!("whether {} requires encryption", the(tunnel)),
                );
            }
            (
                Severity::High,
                format!("Encryption is not required at {}", the(tunnel)),
                "No option requires MPPE, so unencrypted links are accepted.",
                dial_in.profile.origin,
            )
        }
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(
            severity,
            if severity == Severity::High {
                "unencrypted links are accepted"
            } else {
                "such keys are found within hours"
            },
        ),
        title: title.into(),
        detail: detail.into(),
        evidence: vec![origin, tunnel.origin],
    })
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
            ("require-mppe-128\n", "pass d"),
            ("nomppe-40\nrequire-mppe\n", "pass d"),
            ("require-mppe\n", "fail medium d pptpd-options:1 pptpd.conf:2"),
            ("require-mppe-40\n", "fail medium d pptpd-options:1 pptpd.conf:2"),
            ("require-mppe-128\nnomppe\n", "fail high d pptpd-options:2 pptpd.conf:2"),
            ("name pptp\n# require-mppe-128\n", "fail high d pptpd-options:1 pptpd.conf:2"),
            ("nomppe-40\n", "fail high d pptpd-options:1 pptpd.conf:2"),
        ] {
            run(&CHECK, &[(options, &[SERVER, SYSTEM, ("d/etc/ppp/pptpd-options", options)], &[wanted])]);
        }
        run(&CHECK, &[("options not exported", &[SERVER], &["ask d"])]);
    }
}
