//! A tunnel has one key for everything.

use crate::check::{Answer, Check, Fail, Run, Verdict};
use crate::tunnels::openvpn;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/static-key",
    area: Area::Tunnels,
    title: "Static-key encryption",
    severity: Severity::Medium,
    why: "Everything that ever passed is encrypted with the key in the file. Whoever gets it, from a backup or from an end that was replaced, reads what was recorded years ago, and nobody can tell which of the ends was there.",
    fix: "Replace the key by certificates, or by fingerprints that both ends know of each other: keys are then agreed on anew every hour.",
    judged: "Fails for OpenVPN configurations with `secret`. Newer versions warn of it and the next one refuses it.",
    references: &["openvpn(8), --secret", "NIST SP 800-77 Rev. 1, 3.2 (forward secrecy)"],
    controls: &[],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    openvpn(
        estate,
        |_| true,
        |estate, tunnel| match tunnel.proof.shared_key {
            None => Verdict::Pass,
            Some(origin) => Verdict::Fail(Fail {
                rating: CHECK.rated("the key is never changed by itself"),
                title: format!("{} is encrypted with one key for ever", tunnel.name).into(),
                detail: format!("`secret` is stated ({}).", estate.place(origin)).into(),
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
