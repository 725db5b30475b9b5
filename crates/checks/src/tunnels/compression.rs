//! A tunnel compresses encrypted data.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use crate::tunnels::openvpn;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Origin, Setting, Tunnel, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/compression",
    area: Area::Tunnels,
    title: "Compression inside an encrypted tunnel",
    severity: Severity::Medium,
    why: "The length of compressed data depends on its content. An attacker who can make a client send chosen requests and \
          observes packet lengths can recover cookies and passwords. Compression brings little benefit.",
    fix: "Disable compression at both ends: `comp-lzo` and `compress` (OpenVPN), `ipcomp` or `compress` (IPsec), \
          `compression` (ocserv, stunnel). For legacy clients with the option, `compress migrate` keeps them \
          connected without compression.",
    judged: "Fails where an OpenVPN configuration, or an option it pushes, enables compression; one level lower without \
             `allow-compression yes`, since versions from 2.5 on then only decompress. Passes for `comp-lzo no`, `compress \
             stub` and `migrate`. Fails as well for IPsec data proposals with IPComp, and for `compression` of ocserv and \
             stunnel.",
    references: &["openvpn(8), --allow-compression", "RFC 3749, 6", "RFC 9325, 3.3"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = openvpn(estate, |_| true, |_, tunnel| judge(tunnel));
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.with_profiles() {
            let rule = tunnel.rule(|policy| &policy.compression).and_then(Setting::stated);
            let on = match (tunnel.family, &tunnel.ipsec) {
                _ if rule.is_some() => rule.filter(|(on, _)| **on).map(|(_, at)| ("Compression", at)),
                (_, Some(connection)) => {
                    connection.children.iter().find_map(|child| Some(("IPComp", child.compression?)))
                }
                (TunnelFamily::OpenConnect, _) => tunnel
                    .stated("compression")
                    .filter(|(value, _)| matches!(*value, "true" | "yes"))
                    .map(|(_, at)| ("compression", at)),
                (TunnelFamily::TlsRelay, _) => tunnel.stated("compression"),
                _ => continue,
            };
            answers.push(Answer::new(
                at,
                Subject::tunnel(tunnel),
                on.map_or_else(
                    || Verdict::pass_by(rule.map(|(_, origin)| origin), tunnel.origin),
                    |(what, at)| other(tunnel, what, at),
                ),
            ));
        }
    }
    answers.sort_by_key(|answer| answer.device);
    answers
}

/// Other protocols compress where both ends have it switched on.
fn other(tunnel: &Tunnel, what: &str, origin: Origin) -> Verdict {
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(Severity::Low, "it takes effect if the peer enables it too"),
        title: format!("{} compresses encrypted traffic", name_of(tunnel)).into(),
        detail: format!("{what} is enabled.").into(),
        evidence: vec![origin],
    })
}

/// Whether a directive with its value switches compression on.
fn compresses(directive: &str, value: &str) -> bool {
    match directive {
        "comp-lzo" => value != "no",
        "compress" => !matches!(value, "" | "stub" | "stub-v2" | "migrate"),
        _ => false,
    }
}

/// The line that enables it, the last of its kind, or one that is pushed to clients.
fn switched_on(tunnel: &Tunnel) -> Option<(String, Origin)> {
    let own = ["comp-lzo", "compress"].into_iter().find_map(|name| {
        let (value, origin) = tunnel.setting(name)?.stated()?;
        compresses(name, value).then(|| (format!("{name} {value}").trim().to_owned(), origin))
    });
    let pushed = tunnel.settings.iter().filter(|(name, _)| name == "push").find_map(|(_, setting)| {
        let (value, origin) = setting.stated()?;
        let (name, rest) = value.split_once(' ').unwrap_or((value, ""));
        compresses(name, rest.trim()).then(|| (format!("push \"{value}\""), origin))
    });
    own.or(pushed)
}

fn judge(tunnel: &Tunnel) -> Verdict {
    let Some((line, origin)) = switched_on(tunnel) else {
        let stated = tunnel.setting("allow-compression").and_then(Setting::origin);
        return Verdict::pass_by(stated, tunnel.origin);
    };
    let allowed = tunnel.setting("allow-compression").and_then(Setting::stated);
    let allowed = allowed.map(|(value, origin)| (value.as_str(), origin));
    let (severity, why, mut evidence) = match allowed {
        Some(("yes", at)) => (Severity::Medium, "every version compresses what it sends", vec![origin, at]),
        Some(("no", at)) => {
            (Severity::Low, "versions with `allow-compression` do not compress", vec![origin, at])
        }
        _ => (Severity::Low, "versions up to 2.4 compress, later ones only decompress", vec![origin]),
    };
    evidence.dedup();
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("{} compresses encrypted traffic", name_of(tunnel)).into(),
        detail: format!("`{line}` is set.").into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (name, lines, wanted) in [
            ("on", "comp-lzo\nallow-compression yes", &["fail medium d t.conf:3 t.conf:4"][..]),
            ("by version", "compress lz4-v2", &["fail low d t.conf:3"]),
            ("told to callers", "push \"comp-lzo\"", &["fail low d t.conf:3"]),
            ("off", "comp-lzo no", &["pass d"]),
            ("only unpacked", "compress migrate", &["pass d"]),
            ("in a comment", ";comp-lzo", &["pass d"]),
            ("a later line", "comp-lzo yes\ncomp-lzo no", &["pass d"]),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{lines}\n");
            run(&CHECK, &[(name, &[("d/t.conf", &text)], wanted)]);
        }
        let compressed = "connections {\n c {\n  children {\n   n {\n    ipcomp = yes\n   }\n  }\n }\n}\n";
        run(
            &CHECK,
            &[
                ("IPComp", &[("d/swanctl.conf", compressed)], &["fail low d swanctl.conf:5"]),
                ("not proposed", &[("d/ipsec.conf", "conn c\n\tauto=add\n\tcompress=no\n")], &["pass d"]),
                (
                    "a relay",
                    &[("d/stunnel.conf", "compression = zlib\n[a]\naccept = 443\nconnect = 80\n")],
                    &["fail low d stunnel.conf:1"],
                ),
            ],
        );
    }
}
