//! SNMP is used without encryption.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::of_kinds;
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{PartKind, Requirement, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/snmp-unencrypted",
    area: Area::Ciphers,
    title: "SNMP without encryption",
    severity: Severity::Low,
    why: "SNMPv1 and v2c send the community string in every packet. SNMPv3 without privacy still reveals the values, which \
          describe the network.",
    fix: "Use SNMPv3 with `priv` for every user (`rouser NAME priv`), and remove communities.",
    judged: "Fails for each agent that accepts communities, or users without privacy, from beyond the device. Passes where \
             every user requires `priv`. Undetermined where an included file is missing.",
    references: &["RFC 3414, 1.4", "RFC 3826", "CISA TA17-156A"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Monitoring]).filter(|one| !one.served.is_local()) {
        let bare: Vec<&ServiceResource> = one
            .served
            .parts
            .iter()
            .filter(|part| !part.sources.is_local())
            .filter(|part| {
                part.encryption.as_ref().and_then(|one| one.value()) != Some(&Requirement::Required)
            })
            .collect();
        let Some(first) = bare.first() else {
            let passed = (!one.served.parts.is_empty()).then(|| {
                let lines = one.served.parts.iter().filter_map(|part| part.encryption.as_ref()?.origin());
                Verdict::pass_by(lines, one.served.origin)
            });
            let verdict = one.open().or(passed);
            answers
                .extend(verdict.map(|verdict| Answer::new(one.device, Subject::served(one.served), verdict)));
            continue;
        };
        let communities = bare.iter().filter(|part| part.kind == PartKind::Community).count();
        let users: Vec<&str> =
            bare.iter().filter(|part| part.kind == PartKind::User).map(|part| part.name.as_str()).collect();
        let unsaid = || one.unsaid(first.encryption.as_ref(), "encryption (`encryption` in `parts`)");
        if communities == 0
            && let Some(ask) = unsaid()
        {
            answers.push(Answer::new(one.device, Subject::served(one.served), ask));
            continue;
        }
        let mut told = Vec::new();
        if communities > 0 {
            told.push(format!("{communities} by community string (SNMPv1 and v2c)"));
        }
        if !users.is_empty() {
            told.push(format!("{} without privacy (SNMPv3)", users.join(", ")));
        }
        let widest = bare.iter().find(|part| part.sources.is_everybody()).unwrap_or(first);
        let verdict = one.fail_of(
            if communities > 0 {
                CHECK.rating()
            } else {
                CHECK.rating().lowered("the password itself is not sent")
            },
            &widest.sources,
            format!("{} is used without encryption", one.title()),
            format!("Affected: {}.", told.join(" and ")),
            bare.iter().map(|part| part.origin).collect(),
        );
        answers.push(Answer::new(one.device, Subject::served(one.served), verdict));
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (text, wanted) in [
            ("rocommunity Qx81vv 10.4.0.9\n", &["fail low d snmpd.conf:1"][..]),
            ("rouser ann\n", &["fail info d snmpd.conf:1"]),
            ("rouser ann priv\n", &["pass d"]),
            ("rouser ann priv\nincludeFile site.conf\n", &["ask d"]),
            ("rouser ann priv\nrocommunity Qx81vv localhost\n", &["pass d"]),
            ("agentaddress 127.0.0.1\nrocommunity Qx81vv\n", &[]),
            ("syslocation quay\n", &[]),
        ] {
            run(&CHECK, &[(text, &[("d/etc/snmp/snmpd.conf", text)], wanted)]);
        }
    }
}
