//! An address or a range is mistyped.

use crate::{Answer, Area, Check, Estate, Fail, Severity, Verdict, Yardstick};
use std::collections::BTreeSet;
use trevlin_model::MalformedAddress;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/range-malformed",
    area: Area::Addresses,
    title: "An address or a range is mistyped",
    severity: Severity::Medium,
    why: "What is no address is read by each program as it likes: it refuses to start, leaves the line out, or takes another range than \
          the one that was meant. Somebody then looks for the fault elsewhere, and opens more than was ever needed.",
    fix: "Write the range that was meant, and check with the daemon's own test or log that it took it.",
    judged: "Fails for every piece of a pool, of the options and lists of pppd, or of a tunnel's configuration that should be an address \
             and is none: a number over 255, five numbers, a range that runs backwards. What was meant is not guessed. Names of hosts \
             are no mistakes.",
    references: &["RFC 791, 3.1", "RFC 4291, 2.2", "RFC 4632, 3.1"],
    run,
};

fn run(estate: &Estate, _: &Yardstick) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let pools = device.facts.tunnels.iter().flat_map(|tunnel| {
            tunnel
                .addresses
                .pools
                .iter()
                .flat_map(move |pool| pool.malformed.iter().map(move |bad| (tunnel.name.as_str(), bad)))
        });
        let options = device
            .facts
            .ppp_profiles
            .iter()
            .flat_map(|one| one.malformed.iter().map(|bad| ("pppd's options", bad)));
        let lists = device
            .facts
            .credentials
            .iter()
            .flat_map(|one| one.malformed.iter().map(|bad| ("a list of logins", bad)));
        // A file that another reads in is met twice.
        let mut seen = BTreeSet::new();
        for (whose, bad) in pools.chain(options).chain(lists) {
            if seen.insert(bad.origin) {
                answers.push(Answer::new(at, format!("{whose}: {}", bad.why), fail(whose, bad)));
            }
        }
    }
    answers
}

fn fail(whose: &str, bad: &MalformedAddress) -> Verdict {
    Verdict::Fail(Fail {
        severity: CHECK.severity,
        why_this_severity: "what the program makes of it is not what was meant".into(),
        title: format!("an address of {whose} is mistyped: {}", bad.why),
        detail: "It was not taken for any other range.".into(),
        evidence: vec![bad.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::checks::testing::run;

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
