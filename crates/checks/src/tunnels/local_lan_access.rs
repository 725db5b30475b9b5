//! Clients of a full tunnel still reach their local network.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::{Space, common_at_home, space_of};
use trevlin_model::plan::Sends;
use trevlin_model::{IpRange, Origin, Tunnel, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/local-lan-access",
    area: Area::Tunnels,
    title: "Local LAN access in a full tunnel",
    severity: Severity::Info,
    why: "A client that is connected to a foreign network and the internal network at once is a bridge between the two. The \
          routes of a full tunnel do not cover the local network, whose route is more specific.",
    fix: "Block the local network of clients while they are connected (`push \"redirect-gateway def1 \
          block-local\"`).",
    judged: "Judged for OpenVPN configurations with a full tunnel, and for profiles kept for clients. Fails without \
             `block-local`; one level higher where the estate file requires a full tunnel, or where a route around the tunnel \
             excludes a whole block of private addresses.",
    references: &["openvpn(8), --redirect-gateway", "NIST SP 800-46 Rev. 2, 3.2.3"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let wanted = device.wanted_sends == Some(Sends::Everything);
        for tunnel in device.facts.with_profiles().filter(|one| one.family == TunnelFamily::OpenVpn) {
            answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(tunnel, wanted)));
        }
        for tunnel in device.facts.running().filter(|one| one.family != TunnelFamily::OpenVpn) {
            answers.extend(
                by_rule(tunnel, wanted).map(|verdict| Answer::new(at, Subject::tunnel(tunnel), verdict)),
            );
        }
    }
    answers
}

/// Lines that route all traffic through the tunnel, local or pushed to clients, with their flags.
fn redirects(tunnel: &Tunnel) -> Vec<(String, Origin)> {
    let stated =
        tunnel.settings.iter().filter_map(|(name, setting)| Some((name.as_str(), setting.stated()?)));
    stated
        .filter_map(|(name, (value, origin))| match name {
            "redirect-gateway" => Some((value.clone(), origin)),
            "push" => value.strip_prefix("redirect-gateway").map(|flags| (flags.to_owned(), origin)),
            _ => None,
        })
        .collect()
}

/// Addresses of a local network.
const LOCAL: u128 = 256;

/// As a sheet states it.
fn by_rule(tunnel: &Tunnel, wanted: bool) -> Option<Verdict> {
    let (permitted, origin) = tunnel.rule(|policy| &policy.local_network)?.stated()?;
    let full = tunnel.addresses.sent_through.iter().any(|(range, _)| *range == IpRange::all(range.family()));
    Some(match (full, permitted) {
        // In a split tunnel nothing else is expected.
        (false, true) => Verdict::DoesNotApply,
        (_, false) => Verdict::pass(origin),
        (true, true) => {
            let detail =
                "All traffic is routed into the tunnel, and access to the local network is permitted.";
            keeps_access(tunnel, wanted, detail, origin)
        }
    })
}

fn judge(tunnel: &Tunnel, wanted: bool) -> Verdict {
    if let Some(verdict) = by_rule(tunnel, wanted) {
        return verdict;
    }
    let lines = redirects(tunnel);
    let Some((_, origin)) = lines.first() else { return Verdict::DoesNotApply };
    // A whole block of private addresses, as local networks have them, is more than the local network.
    let private = |range: &IpRange| {
        matches!(space_of(*range), Space::Private)
            && common_at_home().any(|home| range.covers(&IpRange::from(home.prefix)))
    };
    let kept = tunnel.addresses.kept_out.iter().filter(|(range, _)| private(range) && range.size() > LOCAL);
    let kept: Vec<_> = kept.collect();
    if let Some((range, line)) = kept.first() {
        return Verdict::Fail(Fail {
            rating: CHECK.rated_at(Severity::Low, "it holds wherever such a network is, and not for one device only"),
            title: format!("{} is excluded from the full tunnel of {}", range.short(), name_of(tunnel)).into(),
            detail: "Hosts with these addresses in the network of the client reach it, and are reached, past the tunnel.".into(),
            evidence: vec![*line],
        });
    }
    // Several lines add up.
    let blocks = |flags: &str| flags.split_whitespace().any(|flag| flag == "block-local");
    if let Some((_, line)) = lines.iter().find(|(flags, _)| blocks(flags)) {
        return Verdict::pass(*line);
    }
    keeps_access(
        tunnel,
        wanted,
        "All traffic is routed into the tunnel, and `block-local` is not set.",
        *origin,
    )
}

fn keeps_access(tunnel: &Tunnel, wanted: bool, detail: &str, origin: Origin) -> Verdict {
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(
            if wanted { Severity::Low } else { CHECK.severity },
            if wanted {
                "the estate file requires a full tunnel"
            } else {
                "it requires an attack from the local network of the client"
            },
        ),
        title: format!("Clients of {} keep access to their local network", name_of(tunnel)).into(),
        detail: detail.to_owned().into(),
        evidence: vec![origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, estate_with};

    #[test]
    fn cases() {
        let all = "[tunnels]\nsends = \"everything\"\n";
        for (line, stated, wanted) in [
            ("push \"redirect-gateway def1\"", "", "fail info d s.conf:3"),
            ("push \"redirect-gateway def1\"", all, "fail low d s.conf:3"),
            ("push \"redirect-gateway def1 block-local\"", all, "pass d"),
            ("push \"redirect-gateway def1\"\npush \"redirect-gateway block-local\"", all, "pass d"),
            (
                "push \"redirect-gateway def1\"\npush \"route 192.168.0.0 255.255.0.0 net_gateway\"",
                "",
                "fail low d s.conf:4",
            ),
            (
                "push \"redirect-gateway def1 block-local\"\npush \"route 203.0.113.0 255.255.255.0 net_gateway\"",
                "",
                "pass d",
            ),
            ("#push \"redirect-gateway def1\"", all, "none d"),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{line}\n");
            assert_eq!(answers(&CHECK, &estate_with(&[("d/s.conf", &text)], stated)), [wanted], "{line}");
        }
        // A profile has its own routes around the tunnel.
        let profile = "client\ndev tun\nremote vpn.example.org\nredirect-gateway def1\nroute 10.0.0.0 255.0.0.0 net_gateway\n";
        let told = answers(&CHECK, &estate_with(&[("d/etc/openvpn/client/away.conf", profile)], ""));
        assert_eq!(told, ["fail low d away.conf:5"]);
    }
}
