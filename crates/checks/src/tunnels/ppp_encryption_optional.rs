//! A dial-in tunnel does not require encryption.

use crate::check::{Answer, Check, Control, Fail, Run, Verdict};
use crate::subject::Subject;
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
    why: "Encryption of such a link is negotiated. Where the server does not insist, somebody in between strikes it out of the \
          negotiation, both ends agree, and everything passes in the open without either of them telling anybody.",
    fix: "State `require-mppe-128`, which ends links without it; better, replace the tunnel by one with current encryption.",
    judged: "Fails where MPPE is not required, or switched off; milder where keys of 40 bits are taken. Passes with \
             `require-mppe-128`, and with `require-mppe` beside `nomppe-40`. Undetermined where options were not exported.",
    references: &["pppd(8), require-mppe", "RFC 3078, 1", "RFC 3079"],
    controls: &[Control::grundschutz("NET.3.3.A9")],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for (number, tunnel) in device.facts.tunnels.iter().enumerate() {
            // What L2TP carries is for IPsec to encrypt.
            let asked = tunnel.answers_callers() && tunnel.family == TunnelFamily::Pptp;
            if let Some(dial_in) = estate.dial_in(at, number).filter(|_| asked) {
                answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(tunnel, dial_in)));
            }
        }
    }
    answers
}

fn judge(tunnel: &Tunnel, dial_in: &DialIn) -> Verdict {
    let (severity, title, detail, origin) = match dial_in.profile.encryption() {
        Some((Mppe::Required128, _)) => return Verdict::Pass,
        Some((Mppe::Required | Mppe::Required40, origin)) => (
            Severity::Medium,
            format!("the {} takes keys of 40 bits", tunnel.name),
            "Encryption is required, and 40 bits are enough for it.",
            origin,
        ),
        Some((Mppe::Off, origin)) => (
            Severity::High,
            format!("encryption is switched off at the {}", tunnel.name),
            "`nomppe` is stated.",
            origin,
        ),
        None => {
            if let Some(missing) = dial_in.missing.first() {
                return Verdict::ask_reference(
                    missing,
                    &format!("whether the {} requires encryption", tunnel.name),
                );
            }
            (
                Severity::High,
                format!("the {} does not require encryption", tunnel.name),
                "No option requires MPPE, so links without it are taken.",
                dial_in.profile.origin,
            )
        }
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(
            severity,
            if severity == Severity::High {
                "links in the open are taken"
            } else {
                "such keys are tried out within hours"
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
