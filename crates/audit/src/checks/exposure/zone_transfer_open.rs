//! A name server hands whole zones to everybody.

use crate::serving::{Subject, is_few, limited, of_kinds};
use crate::{Answer, Area, Check, Estate, Severity, Verdict, Yardstick};
use trevlin_model::served::{Part, Remark, ServedKind};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/zone-transfer-open",
    area: Area::Exposure,
    title: "A name server hands whole zones to everybody",
    severity: Severity::Low,
    why: "A zone is the list of all machines with their names and addresses. It tells which are worth a visit, without a packet to any of them.",
    fix: "Let second servers alone have it, by a key (`allow-transfer { key NAME; };`) or at least by address.",
    judged: "Fails for each zone that the server keeps and hands out to everybody, which it does by itself before version 9.20. Passes where a key \
             or a handful of addresses is named.",
    references: &[
        "named.conf(5), allow-transfer",
        "RFC 5936, 5",
        "NIST SP 800-81 Rev. 2, 9.7",
        "BSI APP.3.6.A11",
    ],
    run,
};

fn run(estate: &Estate, _: &Yardstick) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Names]).filter(|one| !one.served.is_local()) {
        for part in one.served.parts.iter().filter(|part| part.remark(Remark::Listing).is_some()) {
            answers.push(Answer::new(one.device, one.subject(part), judge(one, part)));
        }
    }
    answers
}

fn judge(one: Subject<'_>, part: &Part) -> Verdict {
    let by_key = part.sources.ranges.is_empty();
    if by_key || is_few(&part.sources) || part.sources.is_local() {
        return Verdict::Pass;
    }
    one.fail(
        limited(CHECK.severity, &part.sources),
        part,
        format!("{} hands out the {}", one.title(), part.name),
        format!("{} may have it.", super::super::logins::capital(&part.sources.words())),
        part.lines(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::checks::testing::run;

    #[test]
    fn cases() {
        for (transfer, wanted) in [
            ("", &["fail low d named.conf:2"][..]),
            ("allow-transfer { any; };", &["fail low d named.conf:2"]),
            ("allow-transfer { 10.4.0.0/16; };", &["fail info d named.conf:2"]),
            ("allow-transfer { 10.4.0.9; };", &["pass d"]),
            ("allow-transfer { key k; };", &["pass d"]),
            ("allow-transfer { none; };", &[]),
        ] {
            let text = format!(
                "options {{ recursion no; }};\nzone \"yard.example\" {{ type master; file \"x\"; {transfer} }};\n"
            );
            run(&CHECK, &[(transfer, &[("d/etc/bind/named.conf", &text)], wanted)]);
        }
    }
}
