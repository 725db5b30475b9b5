//! An interface of an appliance has no list, although others have.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rules::REFERENCES;
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeSet;
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Chain, ChainKind, FilterFormat, Hook, MatchKind, Target};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/interface-without-list",
    area: Area::Rules,
    title: "Interface without an access list",
    severity: Severity::Medium,
    why: "Lists on the other interfaces show the intention to filter. Traffic that enters by an interface without one is \
          permitted in full, often because a tunnel or a network was added after the lists were written.",
    fix: "Attach a list to the interface that permits the required traffic and denies the rest.",
    judged: "Fails where lists are attached to some interfaces of a device for arriving traffic, and an enabled interface with \
             an address has none: high where it faces the Internet. Passes for the loopback interface, for disabled \
             interfaces, and where a list is attached.",
    references: REFERENCES,
    needs: &[Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let tables = estate.tables_in_force(at);
        let ingress = tables
            .iter()
            .filter(|table| table.format == FilterFormat::Ordered)
            .flat_map(|table| &table.chains)
            .filter(|chain| chain.hook == Some(Hook::Prerouting) && chain.kind == ChainKind::Filter);
        let listed: BTreeSet<&str> = ingress.flat_map(attached).collect();
        if listed.is_empty() {
            continue;
        }
        for interface in &device.facts.interfaces {
            if interface.loopback || interface.up == Some(false) || interface.addresses.is_empty() {
                continue;
            }
            let verdict = if listed.contains(interface.name.as_str()) {
                Verdict::pass(interface.addresses[0].origin)
            } else {
                let outside = estate.outside(at).iter().any(|one| one.certain && one.name == interface.name);
                let (severity, why) = match outside {
                    true => (Severity::High, "it faces the Internet"),
                    false => (CHECK.severity, "lists are attached to other interfaces"),
                };
                Verdict::Fail(Fail {
                    rating: CHECK.rated_at(severity, why),
                    title: format!("Interface {} has no access list", interface.name).into(),
                    detail: format!(
                        "Lists filter the traffic that arrives at {}; everything that arrives at {} is permitted.",
                        listed.iter().take(4).copied().collect::<Vec<_>>().join(", "),
                        interface.name
                    )
                    .into(),
                    evidence: vec![interface.origin],
                })
            };
            let subject = Subject::of(SubjectKind::Interface).with(&interface.name);
            answers.push(Answer::new(at, subject, verdict));
        }
    }
    answers
}

/// Interfaces to which a base chain attaches lists.
fn attached(chain: &Chain) -> impl Iterator<Item = &str> {
    let jumps = chain.rules.iter().filter(|rule| matches!(rule.target, Target::Jump(_)));
    jumps.flat_map(|rule| &rule.matches).filter_map(|one| match &one.kind {
        MatchKind::Entering(name) if !one.negated => Some(name.as_str()),
        _ => None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let interface = |name: &str, address: &str, enabled: bool| {
            format!(
                r#"{{"name": "{name}", "type": "iana-if-type:ethernetCsmacd", "enabled": {enabled},
"ietf-ip:ipv4": {{"address": [{{"ip": "{address}", "prefix-length": 24}}]}}}}"#
            )
        };
        let estate = |lists: &str| {
            format!(
                r#"{{"ietf-interfaces:interfaces": {{"interface": [
{},
{},
{}]}},
"ietf-access-control-list:acls": {{"acl": [{{"name": "in", "aces": {{"ace": [{{"name": "all", "actions": {{"forwarding": "drop"}}}}]}}}}],
"attachment-points": {{"interface": [{lists}]}}}}}}"#,
                interface("a", "10.4.0.1", true),
                interface("b", "10.5.0.1", true),
                interface("c", "10.6.0.1", false)
            )
        };
        let on = |name: &str| {
            format!(
                r#"{{"interface-id": "{name}", "ingress": {{"acl-sets": {{"acl-set": [{{"name": "in"}}]}}}}}}"#
            )
        };
        let [one, both, none] = [estate(&on("a")), estate(&format!("{},{}", on("a"), on("b"))), estate("")];
        run(
            &CHECK,
            &[
                ("one has none", &[("d/data.json", &one)], &["pass d", "fail medium d data.json:4"]),
                ("each has one", &[("d/data.json", &both)], &["pass d", "pass d"]),
                ("no list at all", &[("d/data.json", &none)], &[]),
            ],
        );
    }
}
