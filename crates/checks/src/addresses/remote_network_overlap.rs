//! A network behind a tunnel is one that the device has itself.

use crate::addresses::listed;
use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::others_of_plan_pass;
use trevlin_analysis::addresses::{Allocation, AllocationKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/remote-network-overlap",
    area: Area::Addresses,
    title: "Remote network overlaps a local network",
    severity: Severity::High,
    why: "A packet to such an address can take only one path: traffic for the remote site stays local, or traffic for a \
          local host leaves through the tunnel. Rules that name the network apply to two places.",
    fix: "Renumber one side. Until then, translate one of the networks one to one at the tunnel, and use the translated \
          network in rules.",
    judged: "Fails where a network behind a site-to-site tunnel equals, lies within or crosses an interface network of the \
             same device or a pool of another of its tunnels. Passes for a wider remote network, since the more specific \
             route wins, and for one that overlaps nothing.",
    references: &["RFC 1918, 5", "RFC 4301, 4.4.1", "NIST SP 800-77 Rev. 1, 5.3"],
    needs: &[Need::Addresses, Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    use AllocationKind::{Network, Pool, PoolNetwork, Remote};
    let plan = estate.plan();
    let mut answers = Vec::new();
    for overlap in &plan.overlaps {
        let (a, b) = plan.pair(overlap);
        let (remote, own): (&Allocation, &Allocation) = match (a.kind, b.kind) {
            (Remote, Network) => (a, b),
            (Pool | PoolNetwork, Remote) => (b, a),
            _ => continue,
        };
        let (told, evidence) = listed(estate, &[remote, own]);
        let what = if own.kind == Network { "the network of" } else { "the client pool of" };
        let verdict = Verdict::Fail(Fail {
            rating: CHECK.rated("packets to these addresses have two possible paths"),
            title: format!("{} behind {} is also {what} {}", overlap.shared.short(), remote.owner, own.owner)
                .into(),
            detail: format!("Both are configured on this device: {told}.").into(),
            evidence,
        });
        let subject = Subject::of(SubjectKind::Addresses)
            .with(&remote.owner)
            .with(remote.range)
            .with(&own.owner)
            .with(own.range);
        answers.push(Answer::new(remote.device, subject, verdict));
    }
    others_of_plan_pass(estate, &mut answers, |one| one.kind == Remote);
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    const LAN: (&str, &str) =
        ("a/ip-addr.json", r#"[{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#);

    #[test]
    fn cases() {
        let yard =
            |net: &str| format!("conn yard\n\tauto=start\n\tleftsubnet=10.4.0.0/24\n\trightsubnet={net}\n");
        for (name, net, wanted) in [
            ("the same network", "10.4.0.0/24", &["fail high a ipsec.conf:4 ip-addr.json:1"][..]),
            ("a part of it", "10.4.0.64/26", &["fail high a ipsec.conf:4 ip-addr.json:1"]),
            ("another", "10.7.0.0/24", &["pass a"]),
            ("a wider one", "10.0.0.0/8", &["pass a"]),
            ("everything", "0.0.0.0/0", &[]),
        ] {
            let text = yard(net);
            run(&CHECK, &[(name, &[LAN, ("a/ipsec.conf", &text)], wanted)]);
        }
        let text = yard("10.8.0.0/24");
        run(
            &CHECK,
            &[
                (
                    "a pool of the same device",
                    &[("a/ipsec.conf", &text), ("a/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n")],
                    &["fail high a ipsec.conf:4 s.conf:2"],
                ),
                (
                    "the way to another device's callers is what a route is for",
                    &[("a/ipsec.conf", &text), ("b/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n")],
                    &["pass a"],
                ),
            ],
        );
    }
}
