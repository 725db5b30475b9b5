//! A pool is in foreign or unassigned public address space.

use crate::addresses::malformed_pools;
use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::addresses::AllocationKind;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::assemble::space::own_space;
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special;
use trevlin_estate::special::Space;
use trevlin_model::{Family, IpRange, Origin};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/pool-in-foreign-public-space",
    area: Area::Addresses,
    title: "Client pool in foreign public address space",
    severity: Severity::High,
    why: "Addresses outside the private blocks are assigned to other organisations. VPN clients cannot reach the real owner, \
          replies may leave to the Internet, and an access rule for the range also admits the owner. Special-purpose blocks \
          are handled differently by each router.",
    fix: "Choose the pool from private address space (RFC 1918; RFC 4193 for IPv6) that is unused in the estate. List public \
          networks of the organisation in the estate file (`networks`).",
    judged: "Fails where a range lies in public space that is neither on an inner interface of the estate nor listed in the estate \
             file (the network at an uplink is the provider's), and where it lies in a special-purpose block (shared, link-local, multicast and so on). Passes for \
             private blocks. Undetermined where a part of the range could not be read.",
    references: &["RFC 1918, 3", "RFC 4193", "RFC 6598", "IANA Special-Purpose Address Registries"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let own = own_space(estate);
    let plan = estate.plan();
    let mut answers = Vec::new();
    for allocation in &plan.allocations {
        if plan.stands_for_pool(allocation) || allocation.kind == AllocationKind::DhcpRange {
            let subject = Subject::of(SubjectKind::Addresses).with(allocation.range).with(&allocation.owner);
            let verdict = judge(
                &allocation.owner,
                allocation.range,
                allocation.origin,
                &own,
                &estate.place(allocation.origin),
            );
            answers.push(Answer::new(allocation.device, subject, verdict));
        }
    }
    for (device, name, bad) in malformed_pools(estate) {
        let ask = format!(
            "Please state the intended pool of {name} and the range in use: the configured range is malformed ({}).",
            bad.why
        );
        answers.push(Answer::new(
            device,
            Subject::of(SubjectKind::Addresses).with(name),
            Verdict::ask(ask, vec![bad.origin]),
        ));
    }
    answers
}

fn judge(tunnel: &str, range: IpRange, origin: Origin, own: &[IpRange], place: &str) -> Verdict {
    let fail = |severity, why: String, title: String, detail: String| {
        Verdict::Fail(Fail {
            rating: CHECK.rated_at(severity, why),
            title: title.into(),
            detail: detail.into(),
            evidence: vec![origin],
        })
    };
    match special::space_of(range) {
        Space::Private => Verdict::pass(origin),
        Space::Public if own.iter().any(|net| net.intersection(&range) == Some(range)) => {
            Verdict::pass(origin)
        }
        // Every network of IPv6 has public addresses, and nothing shows whose these are.
        Space::Public if range.family() == Family::V6 => Verdict::ask(
            format!(
                "Please state whether {}, which {tunnel} assigns, is address space of the organisation: `networks` in the estate file.",
                range.short()
            ),
            vec![origin],
        ),
        Space::Public => fail(
            CHECK.severity,
            "it is public, and no file names it as address space of the organisation".into(),
            format!("{tunnel} assigns {}, which is public address space", range.short()),
            format!(
                "It is configured at {place}; no inner interface of the estate uses it, and the estate file does not list it."
            ),
        ),
        Space::Mixed => fail(
            CHECK.severity,
            "a part of it belongs to another organisation".into(),
            format!("{tunnel} assigns {}, which crosses a block boundary", range.short()),
            format!(
                "It is configured at {place}, begins in one block and ends in another, so a mistyped number is likely."
            ),
        ),
        Space::Special(block) => {
            let severity = if block.inner_use { Severity::Low } else { CHECK.severity };
            fail(
                severity,
                format!("the block is reserved for {} ({})", block.name, block.source),
                format!("{tunnel} assigns {}, which is reserved for {}", range.short(), block.name),
                format!("It is configured at {place}; addresses of that block are not for clients."),
            )
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, estate_with, run};

    #[test]
    fn cases() {
        for (network, wanted) in [
            ("10.8.0.0 255.255.255.0", &["pass d"][..]),
            ("172.31.0.0 255.255.255.0", &["pass d"]),
            ("172.32.0.0 255.255.255.0", &["fail high d s.conf:2"]),
            ("192.168.7.0 255.255.255.0", &["pass d"]),
            ("192.169.7.0 255.255.255.0", &["fail high d s.conf:2"]),
            ("100.64.7.0 255.255.255.0", &["fail low d s.conf:2"]),
            ("169.254.7.0 255.255.255.0", &["fail high d s.conf:2"]),
        ] {
            let text = format!("dev tun\nserver {network}\nca c\ncert c\nkey k\ndh none\n");
            run(&CHECK, &[(network, &[("d/s.conf", &text)], wanted)]);
        }
        let wide = ("d/ocserv.conf", "ipv4-network = 172.16.0.0/11\nauth = plain[passwd=a]\n");
        run(&CHECK, &[("across a border", &[wide], &["fail high d ocserv.conf:1"])]);
        let bad = ("d/pptpd.conf", "remoteip 10.4.0.300-310\nlocalip 10.4.0.1\n");
        let said = answers(&CHECK, &estate_with(&[bad], ""));
        assert!(said.iter().all(|one| !one.starts_with("fail")), "{said:?}");
        let list = ("d/ocserv.conf", "ipv4-network = 10.9.0.300/24\nauth = plain[passwd=a]\n");
        run(&CHECK, &[("a number over 255", &[list], &["ask d"])]);
    }

    #[test]
    fn public_space_of_ones_own() {
        let server =
            ("d/s.conf", "dev tun\nserver 198.51.100.64 255.255.255.192\nca c\ncert c\nkey k\ndh none\n");
        let other =
            ("e/ip-addr.json", r#"[{"ifname":"eth0","addr_info":[{"local":"192.0.2.2","prefixlen":24}]}]"#);
        let default =
            |via: &str| format!(r#"[{{"dst":"default","gateway":"{via}","dev":"eth1","flags":[]}}]"#);
        let inside = (
            "e/ip-addr.json",
            r#"[{"ifname":"eth0","addr_info":[{"local":"198.51.100.2","prefixlen":24}]},
{"ifname":"eth1","addr_info":[{"local":"192.0.2.2","prefixlen":24}]}]"#,
        );
        let uplink = (
            "e/ip-addr.json",
            r#"[{"ifname":"eth1","addr_info":[{"local":"198.51.100.2","prefixlen":24}]}]"#,
        );
        let (out, near) = (default("192.0.2.1"), default("198.51.100.1"));
        run(
            &CHECK,
            &[
                ("an inner interface", &[server, inside, ("e/ip-route.json", &out)], &["pass d"]),
                ("the provider's", &[server, uplink, ("e/ip-route.json", &near)], &["fail high d s.conf:2"]),
                ("another's", &[server, other], &["fail high d s.conf:2"]),
            ],
        );
        let named = estate_with(&[server], "networks = [\"198.51.100.0/24\"]\n");
        assert_eq!(answers(&CHECK, &named), ["pass d"]);
    }
}
