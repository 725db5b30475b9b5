//! A DNS server permits zone transfers to any address.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, is_few, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::served::{Remark, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/zone-transfer-open",
    area: Area::Exposure,
    title: "DNS zone transfer open to any address",
    severity: Severity::Low,
    why: "A zone lists hosts with names and addresses. An attacker obtains an inventory of targets without sending a packet \
          to them.",
    fix: "Permit transfers to secondary servers only, by TSIG key (`allow-transfer { key NAME; };`) or at least by address.",
    judged: "Fails where a primary server permits zone transfers to more than a few addresses. Passes where a key or a few \
             addresses are named. Undetermined where nothing is set: before version 9.20 any address may transfer, since \
             then none.",
    references: &["named.conf(5), allow-transfer", "RFC 5936, 5", "NIST SP 800-81 Rev. 2, 9.7"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Names]).filter(|one| !one.served.is_local()) {
        let zones = one.served.parts.iter().filter(|part| part.remark(Remark::Listing).is_some());
        let (open, shut): (Vec<&ServiceResource>, Vec<&ServiceResource>) =
            zones.partition(|part| is_open(part, baseline.at(one.device)));
        // Nothing is written about these, and the version decides.
        let (unsaid, open): (Vec<&ServiceResource>, Vec<&ServiceResource>) =
            open.into_iter().partition(|part| part.login.value().is_none());
        if let Some(first) = unsaid.first() {
            let names: Vec<String> = unsaid.iter().map(|part| part.own_name().to_owned()).collect();
            let question = format!(
                "Please state the version of {}: it sets no transfer policy for {}; before version 9.20 any address may \
                 transfer it, since then none.",
                one.title(),
                crate::support::some_names(&names)
            );
            answers.push(Answer::new(
                one.device,
                Subject::served(one.served),
                Verdict::ask(question, vec![first.origin]),
            ));
        }
        let silent = !unsaid.is_empty();
        // Zones that are open to the same are one finding.
        let mut groups: Vec<Vec<&ServiceResource>> = Vec::new();
        for part in open {
            match groups.iter_mut().find(|group| group[0].sources.ranges == part.sources.ranges) {
                Some(group) => group.push(part),
                None => groups.push(vec![part]),
            }
        }
        if groups.is_empty() && !shut.is_empty() && !silent {
            answers.push(Answer::new(
                one.device,
                Subject::served(one.served),
                Verdict::pass_by(shut.iter().flat_map(|part| part.lines()), one.served.origin),
            ));
        }
        for group in groups {
            let subject = Subject::served(one.served).limited_to(&group[0].sources);
            answers.push(Answer::new(one.device, subject, fail(one, &group)));
        }
    }
    answers
}

/// Whether more than a handful may have it without a key.
fn is_open(part: &ServiceResource, thresholds: &Thresholds) -> bool {
    !part.sources.ranges.is_empty() && !is_few(&part.sources, thresholds) && !part.sources.is_local()
}

fn fail(one: ServiceCase<'_>, group: &[&ServiceResource]) -> Verdict {
    let names: Vec<String> = group.iter().map(|part| part.own_name().to_owned()).collect();
    let what = match names.as_slice() {
        [name] => format!("zone {name}"),
        names => format!("{} zones", names.len()),
    };
    one.fail(
        one.limited(CHECK.rating(), &group[0].sources),
        group[0],
        format!("{} permits zone transfers of {what}", one.title()),
        format!(
            "Permitted sources of {}: {}.",
            super::super::logins::capital(&group[0].sources.words()),
            crate::support::some_names(&names)
        ),
        group.iter().flat_map(|part| part.lines()).collect(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (transfer, wanted) in [
            ("", &["ask d"][..]),
            ("allow-transfer { any; };", &["fail low d named.conf:2"]),
            ("allow-transfer { 10.4.0.0/20; };", &["fail info d named.conf:2"]),
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
