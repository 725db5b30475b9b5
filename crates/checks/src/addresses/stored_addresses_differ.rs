//! The addresses that run are not those that apply at the next start.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::is_link_local;
use trevlin_model::{Device, Interface, InterfaceAddress};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/stored-addresses-differ",
    area: Area::Addresses,
    title: "Running and stored interface addresses differ",
    severity: Severity::Low,
    why: "Running settings that are not stored are lost at the next restart, with all that depends on them. Stored settings \
          that are not running take effect then, untested. Either way, the network is not the documented one.",
    fix: "Decide which of the two is intended, and align the other.",
    judged: "Judged where a device comes with both, for interfaces with addresses in the stored configuration. Fails where a \
             running static address is not stored, or a stored one is not running. Link-local and loopback addresses, and \
             disabled interfaces, are left out.",
    references: &["interfaces(5)", "systemd.network(5)", "netplan(5)"],
    needs: &[Need::Addresses],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for stored in &device.facts.stored_interfaces {
            // Files that replace a missing running state are equal to it.
            let running = device
                .facts
                .interfaces
                .iter()
                .find(|one| one.name == stored.name && one.origin != stored.origin);
            if let Some(running) = running.filter(|one| one.up != Some(false))
                && !stored.addresses.is_empty()
            {
                answers.push(Answer::new(
                    at,
                    Subject::of(SubjectKind::Interface).with(&stored.name),
                    judge(estate, device, stored, running),
                ));
            }
        }
    }
    answers
}

fn matters(address: &&InterfaceAddress) -> bool {
    // A single address is one that devices take turns with, put there by a program of its own.
    let turns = address.net.prefix_len() == address.net.max_prefix_len();
    !is_link_local(address.net.addr()) && !turns && !address.dynamic && !address.net.addr().is_loopback()
}

fn judge(estate: &EstateMap, device: &Device, stored: &Interface, running: &Interface) -> Verdict {
    let lacks =
        |all: &Interface, wanted: &InterfaceAddress| all.addresses.iter().all(|one| one.net != wanted.net);
    let lost = running.addresses.iter().filter(matters).find(|one| lacks(stored, one));
    let unused = stored.addresses.iter().filter(matters).find(|one| lacks(running, one));
    let place = |one: &InterfaceAddress| estate.place(one.origin);
    let (title, detail, evidence) = match (lost, unused) {
        (None, None) => {
            let lines = stored.addresses.iter().chain(&running.addresses).map(|one| one.origin);
            return Verdict::pass_by(lines, stored.origin);
        }
        (Some(lost), Some(unused)) => (
            format!("Interface {} runs with {}, but {} is stored", stored.name, lost.net, unused.net),
            format!(
                "{} is running ({}), and {} is stored for the next restart ({}).",
                lost.net,
                place(lost),
                unused.net,
                place(unused)
            ),
            vec![lost.origin, unused.origin],
        ),
        (Some(lost), None) => (
            format!("Address {} of {} is not stored, and lost at the next restart", lost.net, stored.name),
            format!(
                "{} is running ({}); the stored configuration of {} ({}) does not contain it.",
                lost.net,
                place(lost),
                stored.name,
                estate.place(stored.origin)
            ),
            vec![lost.origin, stored.origin],
        ),
        (None, Some(unused)) => (
            format!("Address {} of {} is stored but not running", unused.net, stored.name),
            format!(
                "{} is stored ({}); {} runs without it ({}).",
                unused.net,
                place(unused),
                stored.name,
                estate.place(running.origin)
            ),
            vec![unused.origin, running.origin],
        ),
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated(format!("it takes effect at the next restart of {}", device.name)),
        title: title.into(),
        detail: detail.into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let running = |own: &str, more: &str| {
            format!(
                r#"[{{"ifname":"eth0","flags":["UP"],"addr_info":[{{"local":"{own}","prefixlen":24}}{more}]}}]"#
            )
        };
        let stored = ("d/interfaces", "iface eth0 inet static\n address 10.4.0.9/24\n");
        for (name, json, wanted) in [
            ("alike", running("10.4.0.9", ""), &["pass d"][..]),
            ("another", running("10.4.0.8", ""), &["fail low d ip-addr.json:1 interfaces:2"]),
            (
                "one more",
                running("10.4.0.9", r#",{"local":"10.4.9.9","prefixlen":24}"#),
                &["fail low d ip-addr.json:1 interfaces:1"],
            ),
            (
                "one that was asked for",
                running("10.4.0.9", r#",{"local":"10.4.9.9","prefixlen":24,"dynamic":true}"#),
                &["pass d"],
            ),
            (
                "one that devices take turns with",
                running("10.4.0.9", r#",{"local":"10.4.0.254","prefixlen":32}"#),
                &["pass d"],
            ),
            ("link local", running("10.4.0.9", r#",{"local":"fe80::1","prefixlen":64}"#), &["pass d"]),
            (
                "none",
                r#"[{"ifname":"eth0","flags":["UP"],"addr_info":[]}]"#.to_owned(),
                &["fail low d interfaces:2 ip-addr.json:1"],
            ),
            ("off", r#"[{"ifname":"eth0","flags":[],"addr_info":[]}]"#.to_owned(), &[]),
        ] {
            run(&CHECK, &[(name, &[stored, ("d/ip-addr.json", &json)], wanted)]);
        }
        run(&CHECK, &[("files alone", &[stored], &[])]);
    }
}
