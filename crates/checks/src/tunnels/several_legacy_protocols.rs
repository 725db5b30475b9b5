//! Two legacy protocols admit the same users.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use crate::tunnels::legacy_protocol_enabled::{clients, is_old, ranges};
use std::collections::BTreeSet;
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Device, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/several-legacy-protocols",
    area: Area::Tunnels,
    title: "Several legacy protocols for the same users",
    severity: Severity::Medium,
    why: "Each further protocol is another service to attack, and all of them check the same passwords. An attacker chooses \
          the weakest; a limit on failed logins of one does not count attempts at another.",
    fix: "Keep one protocol, replace it by IKEv2, WireGuard or OpenVPN, and disable the others. Find remaining users of each \
          in its log first.",
    judged: "Fails for PPTP, L2TP and IKEv1-only servers of one device that have the same users: the same names, pools in \
             the same network, or no list of their own. The pair is reported at the second one. Passes where names and pools \
             differ.",
    references: &["NIST SP 800-77 Rev. 1", "RFC 9395, 3"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let mut old: Vec<&Tunnel> =
            device.facts.tunnels.iter().filter(|one| one.accepts_clients() && is_old(one)).collect();
        old.sort_by_key(|one| (one.family, &one.name));
        for (number, tunnel) in old.iter().enumerate().skip(1) {
            let earlier = old[..number].iter().filter(|one| one.family != tunnel.family);
            let pair = earlier.filter_map(|one| Some((one, shared(device, one, tunnel)?))).next();
            let verdict = match pair {
                None => Verdict::pass(tunnel.origin),
                Some((other, why)) => Verdict::Fail(Fail {
                    rating: CHECK.rated("each of them is a way to the same accounts"),
                    title: format!("{} and {} admit the same users", name_of(other), name_of(tunnel)).into(),
                    detail: format!(
                        "Both {} and {} are legacy protocols, and {why}.",
                        other.family.name(),
                        tunnel.family.name()
                    )
                    .into(),
                    evidence: vec![tunnel.origin, other.origin],
                }),
            };
            answers.push(Answer::new(at, Subject::tunnel(tunnel), verdict));
        }
    }
    answers
}

/// Why two servers have the same users, as a clause; none where they have others.
fn shared(device: &Device, one: &Tunnel, other: &Tunnel) -> Option<String> {
    let (own, others): (BTreeSet<&str>, BTreeSet<&str>) = (clients(device, one), clients(device, other));
    let both: Vec<&&str> = own.intersection(&others).collect();
    if let Some(first) = both.first() {
        let more = both.len() - 1;
        let more = if more == 0 { String::new() } else { format!(" and {more} more") };
        return Some(format!("`{first}`{more} may use either"));
    }
    if !own.is_empty() && !others.is_empty() {
        return None;
    }
    let meets = ranges(one).any(|range| ranges(other).any(|also| range.intersection(&also).is_some()));
    if meets {
        return Some("they assign addresses of one pool".to_owned());
    }
    (own.is_empty() && others.is_empty()).then(|| "neither has a list of users of its own".to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let sheet = |first: &str, second: &str, family: &str| {
            format!(
                "sheet = \"trevlin-sheet/2\"\n[[tunnels]]\nname = \"one\"\nfamily = \"pptp\"\nrole = \
                 \"server\"\n[[tunnels]]\nname = \"two\"\nfamily = \"{family}\"\nrole = \"server\"\n[[logins]]\nuser = \
                 \"{first}\"\nservice = \"one\"\n[[logins]]\nuser = \"{second}\"\nservice = \"two\"\n"
            )
        };
        for (first, second, family, wanted) in [
            ("astrid", "astrid", "l2tp", &["fail medium d s.toml:6 s.toml:2"][..]),
            ("astrid", "bjarne", "l2tp", &["pass d"]),
            ("astrid", "astrid", "openvpn", &[]),
        ] {
            let text = sheet(first, second, family);
            run(&CHECK, &[(&format!("{first} {second} {family}"), &[("d/s.toml", &text)], wanted)]);
        }
        let (pptp, lists) = ("localip 10.9.0.1\nremoteip 10.9.0.10-20\n", "astrid * sesame *\n");
        let l2tp = "[global]\nport = 1701\n[lns default]\nip range = 10.9.1.9-10.9.1.40\n";
        run(
            &CHECK,
            &[
                (
                    "one list",
                    &[
                        ("d/etc/pptpd.conf", pptp),
                        ("d/etc/ppp/chap-secrets", lists),
                        ("d/etc/ppp/options", "auth\n"),
                        ("d/etc/xl2tpd/xl2tpd.conf", l2tp),
                    ],
                    &["fail medium d xl2tpd.conf:3 pptpd.conf:2"],
                ),
                ("one alone", &[("d/etc/pptpd.conf", pptp), ("d/etc/ppp/chap-secrets", lists)], &[]),
            ],
        );
    }
}
