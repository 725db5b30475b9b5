//! A connection takes the first version of IKE.

use crate::{Answer, Area, Check, Estate, Fail, Severity, Verdict, Yardstick};
use trevlin_model::plan::{PlanFamily, TunnelPlan};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/ikev1-answers",
    area: Area::Tunnels,
    title: "A connection takes the first version of IKE",
    severity: Severity::Medium,
    why: "The first version is historic: its aggressive mode gives away what a shared key can be guessed from, nobody mends its faults any more, and newer algorithms are not defined for it. While it is taken beside the second, an attacker chooses.",
    fix: "State `version = 2` (swanctl.conf) or `keyexchange=ikev2` (ipsec.conf) for every connection, and replace what cannot speak it.",
    judged: "Fails for strongSwan connections that speak version 1 alone, and milder for those that take both, which is what the daemon does where nothing is stated. Aggressive mode is graver still: with it and a shared key the key can be guessed from one answer.",
    references: &["RFC 9395, 3", "RFC 2409, 5.4", "swanctl.conf(5), version", "ipsec.conf(5), keyexchange"],
    run,
};

fn run(estate: &Estate, _: &Yardstick) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for one in device.facts.tunnel_plans.iter().filter(|one| one.family == PlanFamily::Ipsec) {
            answers.push(Answer::new(at, one.name.clone(), judge(one)));
        }
    }
    answers
}

fn judge(tunnel: &TunnelPlan) -> Verdict {
    // Each daemon's file has its own key, and no connection has both.
    let version = tunnel.stated("version").or_else(|| tunnel.stated("keyexchange"));
    if let Some(("2" | "ikev2", _)) = version {
        return Verdict::Pass;
    }
    let aggressive = tunnel.stated("aggressive").filter(|(value, _)| matches!(*value, "yes" | "true" | "1"));
    let (severity, why, title, detail, evidence) = match (aggressive, version) {
        (Some((_, at)), _) => (
            Severity::High,
            "in aggressive mode the answer can be used to guess a shared key",
            format!("{} answers in aggressive mode of the first version of IKE", tunnel.name),
            "Aggressive mode is stated, and it belongs to version 1.",
            vec![at],
        ),
        (None, Some(("1" | "ikev1", at))) => (
            CHECK.severity,
            "nothing else is spoken",
            format!("{} speaks the first version of IKE", tunnel.name),
            "Version 1 is stated.",
            vec![at],
        ),
        (None, stated) => (
            Severity::Low,
            "callers that speak version 2 are answered in it",
            format!("{} takes the first version of IKE beside the second", tunnel.name),
            "No version is stated, or both are, and the daemon then takes both.",
            vec![stated.map_or(tunnel.origin, |(_, at)| at)],
        ),
    };
    Verdict::Fail(Fail { severity, why_this_severity: why.into(), title, detail: detail.into(), evidence })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::checks::testing::run;

    #[test]
    fn cases() {
        for (name, text, wanted) in [
            ("nothing stated", "conn c\n\tauto=add\n", &["fail low d ipsec.conf:1"][..]),
            ("version 2", "conn c\n\tauto=add\n\tkeyexchange=ikev2\n", &["pass d"]),
            ("version 1", "conn c\n\tauto=add\n\tkeyexchange=ikev1\n", &["fail medium d ipsec.conf:3"]),
            (
                "aggressive mode",
                "conn c\n\tauto=add\n\tkeyexchange=ikev1\n\taggressive=yes\n",
                &["fail high d ipsec.conf:4"],
            ),
            ("inherited", "conn %default\n\tkeyexchange=ikev2\nconn c\n\tauto=add\n", &["pass d"]),
            (
                "replaced",
                "conn %default\n\tkeyexchange=ikev2\nconn c\n\tauto=add\n\tkeyexchange=ikev1\n",
                &["fail medium d ipsec.conf:5"],
            ),
            ("switched off", "conn c\n\tauto=ignore\n\tkeyexchange=ikev1\n", &[]),
        ] {
            run(&CHECK, &[(name, &[("d/ipsec.conf", text)], wanted)]);
        }
        let swanctl = "connections {\n c {\n  version = 1\n }\n e {\n  version = 2\n  pools = p\n }\n}\n";
        run(
            &CHECK,
            &[("swanctl", &[("d/swanctl.conf", swanctl)], &["fail medium d swanctl.conf:3", "pass d"])],
        );
    }
}
