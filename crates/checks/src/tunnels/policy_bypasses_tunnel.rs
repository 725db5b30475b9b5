//! A policy sends packets for the networks of an IPsec tunnel past it.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::ipsec::{Child, ChildMode, Selectors};
use trevlin_model::{IpRange, Origin, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/policy-bypasses-tunnel",
    area: Area::Tunnels,
    title: "Bypass policy covers tunnel networks",
    severity: Severity::Medium,
    why: "A bypass policy takes precedence over the tunnel: matching packets leave the device unencrypted and by its \
          ordinary routes. Policies of this kind are often added during a fault and remain.",
    fix: "Limit the bypass to networks that no tunnel protects, such as the local network, or remove it.",
    judged: "Fails where a bypass (`mode = pass`, `type = passthrough`) and a tunnel of one device have local and remote networks in \
             common. A tunnel for all addresses does not count, since exceptions from it are usual; neither does a bypass for single \
             protocols or ports.",
    references: &["swanctl.conf(5), mode", "ipsec.conf(5), type", "RFC 4301, 4.4.1"],
    needs: &[Need::Filter, Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let children = || {
            device.facts.running().flat_map(|tunnel| {
                let children = tunnel.ipsec.iter().flat_map(|ipsec| &ipsec.children);
                children.map(move |child| (tunnel, child))
            })
        };
        let protected: Vec<(&Tunnel, &Child)> = children().filter(|(_, child)| child.wraps()).collect();
        for (tunnel, child) in children().filter(|(_, child)| child.mode.value() == Some(&ChildMode::Pass)) {
            answers.push(Answer::new(
                at,
                Subject::tunnel(tunnel).with(&child.name),
                judge(child, &protected),
            ));
        }
    }
    answers
}

/// A network that both have, with the line of each.
fn common(a: &Selectors, b: &Selectors) -> Option<(IpRange, [Origin; 2])> {
    a.networks.iter().find_map(|(one, first)| {
        b.networks
            .iter()
            .filter(|(other, _)| *other != IpRange::all(other.family()))
            .find_map(|(other, second)| Some((one.intersection(other)?, [*first, *second])))
    })
}

fn judge(bypass: &Child, protected: &[(&Tunnel, &Child)]) -> Verdict {
    let narrow = |side: &Selectors| side.texts.iter().any(|text| text.contains('['));
    if narrow(&bypass.local) || narrow(&bypass.remote) {
        return Verdict::pass(bypass.origin);
    }
    let meets = |tunnel: &Child| {
        let near = bypass.local.networks.is_empty()
            || tunnel.local.networks.is_empty()
            || bypass.local.networks.iter().any(|(one, _)| {
                tunnel.local.networks.iter().any(|(other, _)| one.intersection(other).is_some())
            });
        common(&bypass.remote, &tunnel.remote).filter(|_| near)
    };
    let Some((tunnel, (range, lines))) =
        protected.iter().find_map(|(tunnel, child)| Some((tunnel, meets(child)?)))
    else {
        return Verdict::pass(bypass.origin);
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated("packets for protected networks leave the device unencrypted"),
        title: format!("{} bypasses {}", range.short(), name_of(tunnel)).into(),
        detail: format!("The policy {} exempts it, and takes precedence over the tunnel.", bypass.name)
            .into(),
        evidence: lines.to_vec(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let with = |bypass: &str, remote: &str| {
            format!(
                "connections {{\n c {{\n  remote_addrs = 198.51.100.9\n  children {{\n   lan {{\n    local_ts = 10.4.0.0/24\n    remote_ts = {remote}\n   }}\n   around {{\n{bypass}\n    mode = pass\n   }}\n  }}\n }}\n}}\n"
            )
        };
        let net = "10.5.0.0/24";
        for (what, bypass, remote, wanted) in [
            (
                "part of it",
                "    local_ts = 10.4.0.0/24\n    remote_ts = 10.5.0.128/25",
                net,
                "fail medium d swanctl.conf:11 swanctl.conf:7",
            ),
            ("another network", "    local_ts = 10.4.0.0/24\n    remote_ts = 10.6.0.0/24", net, "pass d"),
            (
                "from another network",
                "    local_ts = 10.7.0.0/24\n    remote_ts = 10.5.0.0/24",
                net,
                "pass d",
            ),
            (
                "from a tunnel for everything",
                "    local_ts = 10.4.0.0/24\n    remote_ts = 10.4.0.0/24",
                "0.0.0.0/0",
                "pass d",
            ),
            (
                "for one service",
                "    local_ts = 10.4.0.0/24\n    remote_ts = 10.5.0.0/24[tcp/22]",
                net,
                "pass d",
            ),
        ] {
            run(&CHECK, &[(what, &[("d/etc/swanctl/swanctl.conf", &with(bypass, remote))], &[wanted])]);
        }
        let conf = "conn lan\n\tleft=192.0.2.1\n\tright=198.51.100.9\n\tleftsubnet=10.4.0.0/24\n\trightsubnet=10.5.0.0/24\n\tauto=start\n\
                    conn around\n\tleft=192.0.2.1\n\tright=198.51.100.9\n\tleftsubnet=10.4.0.0/24\n\trightsubnet=10.5.0.9/32\n\ttype=passthrough\n\tauto=route\n";
        run(
            &CHECK,
            &[(
                "in the older notation",
                &[("d/etc/ipsec.conf", conf)],
                &["fail medium d ipsec.conf:11 ipsec.conf:5"],
            )],
        );
    }
}
