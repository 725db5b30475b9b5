//! A tunnel has one key for everything.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::support::name_of;
use crate::tunnels::openvpn;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Setting;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/static-key",
    area: Area::Tunnels,
    title: "Static-key encryption",
    severity: Severity::Medium,
    why: "All traffic is encrypted with the one stored key. An attacker who obtains it, for example from a backup or a \
          retired device, can decrypt everything that was ever recorded.",
    fix: "Replace the key by certificates or peer fingerprints: session keys are then renegotiated every hour.",
    judged: "Fails for OpenVPN configurations with `secret`. Newer versions warn about it and the next one rejects it.",
    references: &["openvpn(8), --secret", "NIST SP 800-77 Rev. 1, 3.2 (forward secrecy)"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    openvpn(
        estate,
        |_| true,
        |estate, tunnel| match tunnel.proof.shared_key {
            None => {
                let lines = tunnel.proof.certificate.as_ref().and_then(Setting::origin);
                Verdict::pass_by(lines, tunnel.origin)
            }
            Some(origin) => Verdict::Fail(Fail {
                rating: CHECK.rated("the key never changes by itself"),
                title: format!("{} uses one static key permanently", name_of(tunnel)).into(),
                detail: format!("`secret` is set ({}).", estate.place(origin)).into(),
                evidence: vec![origin],
            }),
        },
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (name, lines, wanted) in [
            ("one key", "secret static.key", &["fail medium d t.conf:4"][..]),
            ("certificates", "tls-client\nca c\ncert c\nkey k", &["pass d"]),
            ("in a comment", "#secret static.key\ntls-client", &["pass d"]),
        ] {
            let text = format!("dev tun\nremote 192.0.2.9\nifconfig 10.8.0.1 10.8.0.2\n{lines}\n");
            run(&CHECK, &[(name, &[("d/t.conf", &text)], wanted)]);
        }
    }
}
