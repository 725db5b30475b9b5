//! An address or a range is mistyped.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::others_of_plan_pass;
use trevlin_analysis::addresses::AllocationKind;
use trevlin_analysis::addresses::told::malformed;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::MalformedAddress;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/range-malformed",
    area: Area::Addresses,
    title: "Malformed address or range",
    severity: Severity::Medium,
    why: "Programs differ in how they treat a malformed address: one refuses to start, another skips the line, a third uses \
          a different range. The resulting fault is often worked around by opening more than needed.",
    fix: "Correct the range, and verify with the configuration test or the log of the daemon that it is accepted.",
    judged: "Fails for each malformed address in a pool, a DHCP server, pppd options and lists, an interface or a tunnel: a \
             number over 255, five numbers, a reversed range. The probable intention is reported and never used as a fact. \
             Host names are not malformed. Passes for a device whose pools and reservations can all be read.",
    references: &["RFC 791, 3.1", "RFC 4291, 2.2", "RFC 4632, 3.1"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for (whose, bad) in malformed(&device.facts) {
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::Addresses).with(&whose),
                fail(estate, &whose, bad),
            ));
        }
    }
    others_of_plan_pass(estate, &mut answers, |one| {
        matches!(
            one.kind,
            AllocationKind::Pool
                | AllocationKind::PoolNetwork
                | AllocationKind::DhcpRange
                | AllocationKind::Reservation
                | AllocationKind::FixedAddress
        )
    });
    answers
}

fn fail(estate: &EstateMap, whose: &str, bad: &MalformedAddress) -> Verdict {
    Verdict::Fail(Fail {
        rating: CHECK.rated("the effect differs from the intention"),
        title: format!("Malformed address of {whose}").into(),
        detail: format!(
            "At {} an address, network or range is expected: {}. The value was not interpreted as any other.",
            estate.place(bad.origin),
            bad.why
        )
        .into(),
        evidence: vec![bad.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (name, path, text, wanted) in [
            (
                "over 255",
                "d/pptpd.conf",
                "localip 10.4.0.1\nremoteip 10.4.0.300\n",
                &["fail medium d pptpd.conf:2"][..],
            ),
            ("a proper range", "d/pptpd.conf", "localip 10.4.0.1\nremoteip 10.4.0.30-40\n", &["pass d"]),
            (
                "in comments",
                "d/pptpd.conf",
                "localip 10.4.0.1\n#remoteip 10.4.0.300\nremoteip 10.4.0.9\n",
                &["pass d"],
            ),
            ("a list", "d/chap-secrets", "ann pptp x 10.4.0.300\n", &["fail medium d chap-secrets:1"]),
            (
                "a DHCP range",
                "d/dnsmasq.conf",
                "dhcp-range=10.4.0.100,10.4.0.20\n",
                &["fail medium d dnsmasq.conf:1"],
            ),
            (
                "an interface",
                "d/interfaces",
                "iface eth0 inet static\n address 10.4.0/24\n",
                &["fail medium d interfaces:2"],
            ),
            (
                "a route that callers are told",
                "d/s.conf",
                "dev tun\nserver 10.8.0.0 255.255.255.0\npush \"route 10.4.0.0.0 255.255.255.0\"\n",
                &["fail medium d s.conf:3"],
            ),
            (
                "a name server by name",
                "d/s.conf",
                "dev tun\nserver 10.8.0.0 255.255.255.0\nroute yard.example\n",
                &["pass d"],
            ),
            (
                "backwards",
                "d/s.conf",
                "dev tun\nmode server\ntls-server\nifconfig-pool 10.8.0.99 10.8.0.9\n",
                &["fail medium d s.conf:4"],
            ),
        ] {
            run(&CHECK, &[(name, &[(path, text)], wanted)]);
        }
    }
}
