//! A tunnel falls back to legacy encryption for old clients.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::support::name_of;
use crate::tunnels::openvpn;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Origin, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/legacy-cipher-fallback",
    area: Area::Ciphers,
    title: "Fallback to a legacy cipher",
    severity: Severity::Low,
    why: "A setting for one legacy client applies to all: an attacker who poses as a legacy client obtains legacy \
          encryption. The setting usually stays long after that client is gone.",
    fix: "Remove `compat-mode`, `data-ciphers-fallback`, `providers legacy` and `tls-cert-profile insecure`, after checking \
          the log for clients that still need them.",
    judged: "Fails for OpenVPN configurations with a compatibility version, a fallback cipher, the legacy provider, or a \
             certificate profile that accepts weak certificates. The strength of the cipher itself is judged by \
             `ciphers/weak-encryption`.",
    references: &["openvpn(8), --compat-mode, --data-ciphers-fallback, --providers and --tls-cert-profile"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    openvpn(estate, |_| true, |_, tunnel| judge(tunnel))
}

fn judge(tunnel: &Tunnel) -> Verdict {
    let found: Vec<(String, Origin)> =
        ["compat-mode", "data-ciphers-fallback", "providers", "tls-cert-profile"]
            .into_iter()
            .filter_map(|name| {
                let (value, origin) = tunnel.stated(name)?;
                let old = match name {
                    "providers" => value.split_whitespace().any(|one| one == "legacy"),
                    "tls-cert-profile" => value == "insecure",
                    _ => true,
                };
                old.then(|| (format!("`{name} {value}`"), origin))
            })
            .collect();
    if found.is_empty() {
        return Verdict::pass(tunnel.origin);
    }
    let lines: Vec<_> = found.iter().map(|(line, _)| line.as_str()).collect();
    Verdict::Fail(Fail {
        rating: CHECK.rated("an attacker must pose as a legacy client"),
        title: format!("{} permits fallback to a legacy cipher", name_of(tunnel)).into(),
        detail: format!("Configured: {}. Remedy: remove the setting.", lines.join(", ")).into(),
        evidence: found.iter().map(|(_, origin)| *origin).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (lines, wanted) in [
            ("data-ciphers AES-256-GCM", "pass d"),
            ("data-ciphers-fallback AES-256-CBC", "fail low d s.conf:3"),
            ("compat-mode 2.4.0\nproviders legacy default", "fail low d s.conf:3 s.conf:4"),
            ("providers tpm2 default\ntls-cert-profile preferred", "pass d"),
            ("tls-cert-profile insecure", "fail low d s.conf:3"),
            ("#compat-mode 2.4.0", "pass d"),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{lines}\n");
            run(&CHECK, &[(lines, &[("d/s.conf", &text)], &[wanted])]);
        }
    }
}
