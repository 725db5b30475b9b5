//! Source addresses are translated by two devices in a row.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::{Space, is_public, space_of};
use trevlin_model::{Hook, IpRange, MatchKind, Origin, Rule, Target, TranslationKind};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/double-translation",
    area: Area::Rules,
    title: "Source addresses translated twice",
    severity: Severity::Info,
    why: "The outer device sees one address for the whole network behind the inner one: its log does not tell hosts apart, \
          and its rules cannot. Every service for the Internet must be opened on both, and tunnels without \
          NAT traversal fail.",
    fix: "Let one device translate: put the outer one into bridge mode, or give the inner one a public address. Otherwise \
          route the inner networks on the outer device and translate there alone.",
    judged: "Fails for a device that translates sources on an interface with a private address, whose default gateway is \
             another device of the estate that translates sources as well. Passes where only one of the two does.",
    references: &["RFC 3022, 2", "RFC 5684, 3"],
    needs: &[Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let facts = &device.facts;
        for route in facts.routes.iter().filter(|route| route.is_default()) {
            let (Some(gateway), Some(interface)) = (route.gateway, route.interface.as_deref()) else {
                continue;
            };
            let private = facts
                .interfaces
                .iter()
                .filter(|one| one.name == interface)
                .flat_map(|one| &one.addresses)
                .find(|one| matches!(space_of(IpRange::from(one.net.addr())), Space::Private));
            let Some(own) = private else { continue };
            let Some(outer) = estate.holders(gateway).iter().copied().find(|outer| *outer != at) else {
                continue;
            };
            let Some(line) = translates(estate, at, interface) else { continue };
            let verdict = match outwards(estate, outer) {
                None => Verdict::pass(line),
                Some(outer_line) => Verdict::Fail(Fail {
                    rating: CHECK.rated("it permits nothing by itself"),
                    title: format!(
                        "{} and {} both translate source addresses",
                        device.name, estate.devices[outer].name
                    )
                    .into(),
                    detail: format!(
                        "Connections leave {} with the private address {} and are translated again by {}.",
                        device.name,
                        own.net.addr(),
                        estate.devices[outer].name
                    )
                    .into(),
                    evidence: vec![line, outer_line],
                }),
            };
            answers.push(Answer::new(at, Subject::of(SubjectKind::Interface).with(interface), verdict));
        }
    }
    answers
}

/// The line by which a device translates the sources of what leaves by an interface.
fn translates(estate: &Analyses, at: usize, interface: &str) -> Option<Origin> {
    let inner: Vec<IpRange> = estate.devices[at]
        .facts
        .interfaces
        .iter()
        .filter(|one| one.name != interface && !one.loopback && !one.point_to_point)
        .flat_map(|one| &one.addresses)
        .map(|address| IpRange::from(address.net.trunc()))
        .collect();
    let tables = estate.tables_in_force(at);
    let chains = tables.iter().flat_map(|table| &table.chains);
    let mut rules = chains
        .filter(|chain| chain.hook.is_none_or(|hook| hook == Hook::Postrouting))
        .flat_map(|chain| &chain.rules);
    rules
        .find(|rule| is_source(rule) && leaves_by(rule, interface) && is_about(rule, &inner))
        .map(|rule| rule.origin)
}

/// The line by which a device translates what leaves to an untrusted network.
fn outwards(estate: &Analyses, at: usize) -> Option<Origin> {
    let public =
        estate.outside(at).iter().filter(|one| one.addresses.iter().any(|address| is_public(*address)));
    public.into_iter().find_map(|one| translates(estate, at, &one.name))
}

/// Whether a rule is about hosts of a network behind the device; one for its own tunnel clients is a smaller matter.
fn is_about(rule: &Rule, inner: &[IpRange]) -> bool {
    rule.matches.iter().all(|one| match &one.kind {
        MatchKind::Source(ranges) if !one.negated => {
            ranges.iter().any(|range| inner.iter().any(|net| net.intersection(range).is_some()))
        }
        _ => true,
    })
}

fn is_source(rule: &Rule) -> bool {
    matches!(&rule.target, Target::Translate(how)
        if matches!(how.kind, TranslationKind::Source | TranslationKind::Masquerade))
}

fn leaves_by(rule: &Rule, interface: &str) -> bool {
    let fits = |pattern: &str| match pattern.strip_suffix('+') {
        Some(beginning) => interface.starts_with(beginning),
        None => pattern == interface,
    };
    rule.matches.iter().all(|one| match &one.kind {
        MatchKind::Leaving(pattern) => fits(pattern) != one.negated,
        MatchKind::AnyOf(lists) => {
            let named: Vec<bool> = lists
                .iter()
                .flatten()
                .filter_map(|one| match &one.kind {
                    MatchKind::Leaving(pattern) => Some(fits(pattern)),
                    _ => None,
                })
                .collect();
            named.is_empty() || named.contains(&true)
        }
        _ => true,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const INNER: &str = r#"[{"ifname":"eth0","addr_info":[{"local":"10.9.0.2","prefixlen":24}]},
{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#;
        const OUTER: &str = r#"[{"ifname":"eth0","addr_info":[{"local":"198.51.100.9","prefixlen":29}]},
{"ifname":"eth1","addr_info":[{"local":"10.9.0.1","prefixlen":24}]}]"#;
        const IN_ROUTE: &str = r#"[{"dst":"default","gateway":"10.9.0.1","dev":"eth0"}]"#;
        const OUT_ROUTE: &str = r#"[{"dst":"default","gateway":"198.51.100.10","dev":"eth0"}]"#;
        let nat = |rules: &str| format!("*nat\n:POSTROUTING ACCEPT [0:0]\n{rules}\nCOMMIT\n");
        let both = nat("-A POSTROUTING -o eth0 -j MASQUERADE");
        let other = nat("-A POSTROUTING -o eth1 -j MASQUERADE");
        let clients = nat("-A POSTROUTING -s 10.8.0.0/24 -o eth0 -j MASQUERADE");
        let none = nat("#-A POSTROUTING -o eth0 -j MASQUERADE");
        for (what, inner, outer, wanted) in [
            ("both", &both, &both, &["fail info in rules.v4:3 rules.v4:3"][..]),
            ("the outer one alone", &none, &both, &[]),
            ("the inner one alone", &both, &none, &["pass in"]),
            ("elsewhere", &both, &other, &["pass in"]),
            ("its clients alone", &clients, &both, &[]),
        ] {
            run(
                &CHECK,
                &[(
                    what,
                    &[
                        ("in/ip-addr.json", INNER),
                        ("in/ip-route.json", IN_ROUTE),
                        ("in/rules.v4", inner),
                        ("out/ip-addr.json", OUTER),
                        ("out/ip-route.json", OUT_ROUTE),
                        ("out/rules.v4", outer),
                    ],
                    wanted,
                )],
            );
        }
    }
}
