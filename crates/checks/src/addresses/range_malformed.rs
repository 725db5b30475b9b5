//! An address or a range is mistyped.

use crate::check::{Answer, Check, Fail, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::addresses::told::mistyped;
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
    why: "What is no address is read by each program as it likes: it refuses to start, leaves the line out, or takes another range than \
          the one that was meant. Somebody then looks for the fault elsewhere, and opens more than was ever needed.",
    fix: "Write the range that was meant, and check with the daemon's own test or log that it took it.",
    judged: "Fails for every piece of a pool, of a DHCP server, of the options and lists of pppd, of interfaces or of a tunnel that should be an address \
             and is none: a number over 255, five numbers, a range that runs backwards. What was probably meant is told and never \
             taken as a fact. Names of hosts are no mistakes.",
    references: &["RFC 791, 3.1", "RFC 4291, 2.2", "RFC 4632, 3.1"],
    controls: &[],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for (whose, bad) in mistyped(&device.facts) {
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::Addresses).with(&whose),
                fail(estate, &whose, bad),
            ));
        }
    }
    answers
}

fn fail(estate: &EstateMap, whose: &str, bad: &MalformedAddress) -> Verdict {
    Verdict::Fail(Fail {
        rating: CHECK.rated("what the program makes of it is not what was meant"),
        title: format!("an address of {whose} is mistyped: {}", bad.why).into(),
        detail: format!(
            "At {} the program expects an address, a network or a range, and this is none; it was not taken for any other.",
            estate.place(bad.origin)
        ).into(),
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
            ("a proper range", "d/pptpd.conf", "localip 10.4.0.1\nremoteip 10.4.0.30-40\n", &[]),
            (
                "in comments",
                "d/pptpd.conf",
                "localip 10.4.0.1\n#remoteip 10.4.0.300\nremoteip 10.4.0.9\n",
                &[],
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
                &[],
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
