//! A deny that comes after an accept of the same.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rules::{Judged, REFERENCES, each_rule, named};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::filter_review::{may_be_new, within_device};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{MatchKind, Rule, Target};
use trevlin_packets::review::{Escape, RuleStatus};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/deny-shadowed",
    area: Area::Rules,
    title: "Deny rule shadowed by a permit",
    severity: Severity::High,
    why: "Traffic that the deny rule names is permitted: rules are evaluated from the top, and an earlier rule permits \
          it. Readers of the rule base rely on the deny, and no error shows.",
    fix: "Move the deny before the permit, or narrow the permit.",
    judged: "Fails where earlier rules match everything that a deny matches and new connections that it names are permitted, \
             by one of them or after they return; what enters by an interface behind which its source does not lie is \
             disregarded. Low where a permit matches only a part of it and is not an exception to it, which may be intended. \
             Passes where the earlier permit lies entirely within the deny, as exceptions do, or is for the loopback interface.",
    references: REFERENCES,
    needs: &[Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_rule(estate, judge)
}

fn judge(estate: &Analyses, judged: &Judged<'_>) -> Verdict {
    let Some((found, _)) = judged.found else { return Verdict::DoesNotApply };
    // A rule that denies all traffic is the end of a list.
    if !matches!(judged.rule.target, Target::Drop | Target::Reject) || judged.rule.matches.is_empty() {
        return Verdict::DoesNotApply;
    }
    let accepts = |id: &trevlin_packets::program::RuleId| {
        judged.review.rule(*id).filter(|one| one.target == Target::Accept && may_be_new(one))
    };
    let (takers, severity, why): (Vec<&Rule>, _, _) = match &found.status {
        RuleStatus::Covered { by } => {
            let mut takers: Vec<&Rule> = by.iter().filter_map(accepts).collect();
            if takers.is_empty() && found.escaped == Some(Escape::AcceptedLater) {
                takers = by
                    .iter()
                    .filter_map(|id| judged.review.rule(*id))
                    .filter(|one| may_be_new(one))
                    .collect();
            }
            (takers, CHECK.severity, "nothing that it denies is blocked")
        }
        RuleStatus::Alive => {
            let parts = found.partly.iter().filter(|one| !one.exception);
            // Messages of ICMP are usually permitted before everything else, and so is what stays on the device.
            let takers = parts
                .filter_map(|one| accepts(&one.by))
                .filter(|one| !of_icmp(one) || of_icmp(judged.rule))
                .filter(|one| {
                    !within_device(estate, judged.device, one)
                        || within_device(estate, judged.device, judged.rule)
                })
                .collect();
            match found.escaped {
                Some(Escape::ForgedLeft) => {
                    let why = "it blocks nothing from hosts of the networks behind the interfaces they are attached to";
                    (takers, CHECK.severity, why)
                }
                _ => {
                    let why = "a part of what it denies is permitted earlier, which may be intended";
                    (takers, Severity::Low, why)
                }
            }
        }
        _ => return Verdict::DoesNotApply,
    };
    if takers.is_empty() {
        return Verdict::pass(judged.rule.origin);
    }
    let places: Vec<String> = takers.iter().take(5).map(|one| estate.place(one.origin)).collect();
    let how = if severity == CHECK.severity { "has no effect" } else { "does not block all that it names" };
    let returned = takers.iter().all(|one| one.target != Target::Accept);
    let permitted = if returned { "sent past it" } else { "permitted" };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("Deny rule of chain {} is shadowed by a permit", judged.chain.name).into(),
        detail: format!(
            "The rule `{}` {how}: new connections are {permitted} earlier by {}.",
            named(judged.rule),
            places.join(", ")
        )
        .into(),
        evidence: std::iter::once(judged.rule.origin).chain(takers.iter().map(|one| one.origin)).collect(),
    })
}

/// Whether a rule is about ICMP alone.
fn of_icmp(rule: &Rule) -> bool {
    rule.matches.iter().any(|one| {
        let icmp = match &one.kind {
            MatchKind::Icmp(_) => true,
            MatchKind::Protocol(protocol) => matches!(protocol.0, Some(1 | 58)),
            _ => false,
        };
        icmp && !one.negated
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::on_list;

    #[test]
    fn cases() {
        for (what, rules, wanted) in [
            (
                "all of it",
                "-A FORWARD -i eth2 -j ACCEPT\n-A FORWARD -i eth2 -s 10.1.0.0/16 -j DROP",
                &["fail high d iptables-save.txt:6 iptables-save.txt:5"][..],
            ),
            (
                "what stays on the device before it",
                "-A OUTPUT -o lo -j ACCEPT\n-A OUTPUT -p tcp --dport 25 -j REJECT",
                &[],
            ),
            ("ICMP before it", "-A FORWARD -p icmp -j ACCEPT\n-A FORWARD -s 10.1.0.0/16 -j DROP", &[]),
            (
                "a part of it",
                "-A FORWARD -p tcp --dport 80 -j ACCEPT\n-A FORWARD -s 10.1.0.0/16 -j DROP",
                &["fail low d iptables-save.txt:6 iptables-save.txt:5"],
            ),
            (
                "an exception",
                "-A FORWARD -s 10.1.0.9 -p tcp --dport 80 -j ACCEPT\n-A FORWARD -s 10.1.0.0/16 -j DROP",
                &[],
            ),
            (
                "known connections first",
                "-A FORWARD -m conntrack --ctstate ESTABLISHED -j ACCEPT\n-A FORWARD -s 10.1.0.0/16 -j DROP",
                &[],
            ),
            (
                "returned to a chain that permits it",
                "-A FORWARD -j X\n-A FORWARD -i eth2 -j ACCEPT\n-A X -i eth2 -j RETURN\n-A X -i eth2 -p tcp --dport 23 -j DROP",
                &["fail high d iptables-save.txt:8 iptables-save.txt:7"],
            ),
            (
                "returned to a chain that denies it",
                "-A FORWARD -j X\n-A X -i eth2 -j RETURN\n-A X -i eth2 -p tcp --dport 23 -j DROP",
                &[],
            ),
            ("the end of the list", "-A FORWARD -i eth1 -j ACCEPT\n-A FORWARD -j DROP", &[]),
            ("denied before", "-A FORWARD -s 10.0.0.0/8 -j DROP\n-A FORWARD -s 10.1.0.0/16 -j DROP", &[]),
            (
                "the accept may not hold",
                "-A FORWARD -m limit --limit 1/s -j ACCEPT\n-A FORWARD -s 10.1.0.0/16 -j DROP",
                &[],
            ),
        ] {
            assert_eq!(on_list(&CHECK, rules), wanted, "{what}");
        }
    }

    #[test]
    fn hosts_are_behind_their_interfaces() {
        let addresses = "[{\"ifname\":\"eth1\",\"addr_info\":[{\"local\":\"10.4.0.1\",\"prefixlen\":24}]},\n{\"ifname\":\"eth2\",\"addr_info\":[{\"local\":\"10.6.0.1\",\"prefixlen\":24}]}]";
        for (what, rules, wanted) in [
            (
                "accepted by interface, denied by its network",
                "-A FORWARD -i eth2 -j ACCEPT\n-A FORWARD -s 10.6.0.0/24 -d 10.4.0.0/24 -j DROP",
                "fail high d iptables-save.txt:6 iptables-save.txt:5",
            ),
            (
                "returned before the accept",
                "-A FORWARD -j X\n-A FORWARD -s 10.6.0.0/24 -d 10.4.0.0/24 -j DROP\n-A X -s 10.6.0.9 -j RETURN\n-A X -i eth2 -j ACCEPT",
                "fail low d iptables-save.txt:6 iptables-save.txt:8",
            ),
            (
                "a network behind no interface",
                "-A FORWARD -i eth2 -j ACCEPT\n-A FORWARD -s 10.9.0.0/24 -d 10.4.0.0/24 -j DROP",
                "fail low d iptables-save.txt:6 iptables-save.txt:5",
            ),
            (
                "one service of it",
                "-A FORWARD -i eth2 -p tcp --dport 443 -j ACCEPT\n-A FORWARD -s 10.6.0.0/24 -d 10.4.0.0/24 -j DROP",
                "fail low d iptables-save.txt:6 iptables-save.txt:5",
            ),
        ] {
            let rules = crate::rules::filter_files(rules);
            let files = [("d/ip-addr.json", addresses), ("d/iptables-save.txt", rules.as_str())];
            let told: Vec<String> = crate::testing::answers(&CHECK, &crate::testing::estate(&files));
            let told: Vec<&str> =
                told.iter().map(String::as_str).filter(|one| one.starts_with("fail")).collect();
            assert_eq!(told, [wanted], "{what}");
        }
    }
}
