//! A filter for one IP version, and none for the other.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::filter_review::judges;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Chain, Family, Filter, Hook, Target};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/one-ip-version-unfiltered",
    area: Area::Rules,
    title: "Only one IP version filtered",
    severity: Severity::Medium,
    why: "Traffic that the filter blocks is permitted over the other IP version, to the same services. Most systems enable \
          IPv6 by default, and the filter in view appears correct.",
    fix: "Write the same filter for both versions, preferably in one table, or disable the other version.",
    judged: "Fails where a chain for input or forwarded traffic drops by default for one version, while for the other, in \
             which the device has addresses, everything is permitted. Undetermined where the filter of the other version was \
             not exported. Passes where both versions are filtered. Devices with an Internet interface are judged by exposure/no-input-filter.",
    references: &["RFC 4942, 2.1", "NIST SP 800-41 Rev. 1, 4.1", "NIST SP 800-119, 6.9"],
    needs: &[Need::Filter],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for at in 0..estate.devices.len() {
        for hook in [Hook::Input, Hook::Forward] {
            let subject =
                Subject::of(SubjectKind::Hook).with(trevlin_analysis::filter_review::hook_word(hook));
            answers.push(Answer::new(at, subject, judge(estate, at, hook)));
        }
    }
    answers
}

/// The base chain that drops by default, of those of a version.
fn closed<'a>(tables: &[&'a Filter], hook: Hook) -> Option<&'a Chain> {
    let mut chains = tables.iter().flat_map(|table| table.chains.iter().map(move |chain| (*table, chain)));
    let found = chains.find(|(table, chain)| {
        let last = chain.rules.last().is_some_and(|rule| {
            rule.matches.is_empty() && matches!(rule.target, Target::Drop | Target::Reject)
        });
        judges(table, chain, hook) && (chain.policy == Some(Target::Drop) || last)
    });
    found.map(|(_, chain)| chain)
}

fn judge(estate: &EstateMap, at: usize, hook: Hook) -> Verdict {
    let device = &estate.devices[at];
    if !estate.outside(at).is_empty() {
        return Verdict::DoesNotApply;
    }
    let mut both = None;
    for (one, other) in [(Family::V4, Family::V6), (Family::V6, Family::V4)] {
        let Some(filtered) = closed(&estate.tables(at, one), hook) else { continue };
        let tables = estate.tables(at, other);
        // Any chain that is not empty may keep something out; only where there is none the matter is plain.
        let closing = tables
            .iter()
            .flat_map(|table| table.chains.iter().map(move |chain| (*table, chain)))
            .find(|(table, chain)| {
                judges(table, chain, hook) && (chain.policy == Some(Target::Drop) || !chain.rules.is_empty())
            });
        both = closing.map(|(_, chain)| [filtered.origin, chain.origin]).or(both);
        let own = device
            .facts
            .interfaces
            .iter()
            .filter(|one| !one.loopback)
            .flat_map(|one| &one.addresses)
            .find(|address| {
                Family::of(address.net.addr()) == other
                    && !matches!(address.net.addr(), std::net::IpAddr::V6(v6) if v6.is_unicast_link_local())
            });
        let (None, Some(own)) = (closing, own) else { continue };
        // A whole ruleset of nftables shows both versions; a dump of one version says nothing of the other.
        let both_shown =
            device.facts.filters.iter().any(|filter| filter.format != trevlin_model::FilterFormat::Iptables);
        if tables.is_empty() && !both_shown {
            let command = if other == Family::V6 { "ip6tables-save" } else { "iptables-save" };
            return Verdict::ask(
                format!(
                    "Please provide `{command}` of {}: it filters {one}, has {other} addresses, and no {other} filter was \
                     exported.",
                    device.name
                ),
                vec![filtered.origin, own.origin],
            );
        }
        return Verdict::Fail(Fail {
            rating: CHECK.rated("none of its interfaces faces the Internet"),
            title: format!("Only {one} is filtered, {other} is not").into(),
            detail: format!(
                "Chain {} drops {one} by default; over {other}, in which the device has addresses, everything is permitted.",
                filtered.name
            ).into(),
            evidence: vec![filtered.origin, own.origin],
        });
    }
    both.map_or(Verdict::DoesNotApply, |lines| Verdict::pass_lines(lines.to_vec()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, estate};

    #[test]
    fn cases() {
        let both = (
            "d/ip-addr.json",
            "[{\"ifname\":\"eth0\",\"addr_info\":[{\"local\":\"10.4.0.9\",\"prefixlen\":24},\n{\"local\":\"fd00::9\",\"prefixlen\":64}]}]",
        );
        let v4 = (
            "d/ip-addr.json",
            "[{\"ifname\":\"eth0\",\"addr_info\":[{\"local\":\"10.4.0.9\",\"prefixlen\":24},{\"local\":\"fe80::9\",\"prefixlen\":64}]}]",
        );
        let closed = ("d/iptables-save.txt", "*filter\n:INPUT DROP [0:0]\nCOMMIT\n");
        let open6 = ("d/ip6tables-save.txt", "*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n");
        let closed6 = ("d/ip6tables-save.txt", "*filter\n:INPUT DROP [0:0]\nCOMMIT\n");
        let nft4 = (
            "d/nft.txt",
            "table ip t {\n chain c {\n type filter hook input priority 0; policy drop;\n }\n}\n",
        );
        let nft = (
            "d/nft.txt",
            "table inet t {\n chain c {\n type filter hook input priority 0; policy drop;\n }\n}\n",
        );
        for (what, files, wanted) in [
            ("open", &[both, closed, open6][..], &["fail medium d iptables-save.txt:2 ip-addr.json:2"][..]),
            ("a ruleset shows all there is", &[both, nft4], &["fail medium d nft.txt:3 ip-addr.json:2"]),
            ("not exported", &[both, closed], &["ask d"]),
            ("closed", &[both, closed, closed6], &["pass d"]),
            ("one table for both", &[both, nft], &["pass d"]),
            ("no address of the other", &[v4, closed, open6], &[]),
        ] {
            let told: Vec<_> =
                answers(&CHECK, &estate(files)).into_iter().filter(|one| one != "none d").collect();
            assert_eq!(told, wanted, "{what}");
        }
    }
}
