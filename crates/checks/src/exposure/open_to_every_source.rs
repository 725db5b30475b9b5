//! The filter of an internal host permits a sensitive service from every source.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rules::{Judged, each_way, entering, named};
use std::collections::BTreeSet;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::filter_review::{let_through, within_device};
use trevlin_analysis::services::{Encrypted, KnownPort, PortKind, known_port};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Facts, Families, Hook, MatchKind, Origin, PortRange, Protocol, Rule, Target};
use trevlin_packets::review::RuleStatus;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/open-to-every-source",
    area: Area::Exposure,
    title: "Sensitive service open to every internal source",
    severity: Severity::Low,
    why: "One compromised workstation or guest device is sufficient to reach the service. Databases, file shares, management \
          and controllers need a few known clients, which the filter can name.",
    fix: "Name the clients that need the service as sources, in both IP versions alike, and deny the rest.",
    judged: "Fails for each effective permit of a host filter, on a device without an Internet interface, that opens a file \
             sharing, database, management, remote desktop, industrial or clear-text shell port to every source; medium \
             where the usual service needs no encryption, or where the other IP version names sources. Passes where \
             sources are named. Not judged where the exported sockets show no such service. Services that the Internet \
             reaches have checks of their own.",
    references: &["NIST SP 800-41 Rev. 1, 5.2", "CIS Controls 8, 4.5"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_way(estate, judge)
}

/// The destination ports of a rule with their protocol, a few of them.
fn opened(rule: &Rule) -> Option<(u8, BTreeSet<u16>)> {
    const MOST: u32 = 64;
    let protocol = rule.matches.iter().filter(|one| !one.negated).find_map(|one| match one.kind {
        MatchKind::Protocol(Protocol(Some(number @ (6 | 17)))) => Some(number),
        _ => None,
    })?;
    let size = |all: &[PortRange]| all.iter().map(|one| u32::from(one.last - one.first) + 1).sum::<u32>();
    let ports = rule.matches.iter().filter(|one| !one.negated).find_map(|one| match &one.kind {
        MatchKind::DestinationPorts(all) if size(all) <= MOST => Some(all),
        _ => None,
    })?;
    Some((protocol, ports.iter().flat_map(|range| range.first..=range.last).collect()))
}

/// Whether a rule names its sources, by address or by one of several interfaces.
fn names_sources(facts: &Facts, rule: &Rule) -> bool {
    let networks = facts.interfaces.iter().filter(|one| !one.loopback && !one.addresses.is_empty()).count();
    (entering(rule).is_some() && networks != 1)
        || rule.matches.iter().any(|one| matches!(one.kind, MatchKind::Source(_) | MatchKind::AnyOf(_)))
}

fn sensitive(known: &KnownPort) -> bool {
    match known.kind {
        PortKind::Files
        | PortKind::Database
        | PortKind::Management
        | PortKind::Desktop
        | PortKind::Industrial => true,
        PortKind::Shell => known.encrypted == Encrypted::No,
        _ => false,
    }
}

fn judge(estate: &Analyses, judged: &Judged<'_>) -> Verdict {
    let facts = &estate.devices[judged.device].facts;
    let Some((found, hooks)) = judged.found else { return Verdict::DoesNotApply };
    let (true, Some((protocol, ports))) = (hooks.contains(&Hook::Input), opened(judged.rule)) else {
        return Verdict::DoesNotApply;
    };
    let facing = estate.outside(judged.device).iter().any(|one| one.certain);
    if facing || judged.rule.target != Target::Accept || within_device(estate, judged.device, judged.rule) {
        return Verdict::DoesNotApply;
    }
    let listens = |port: u16| {
        let seen = |one: &trevlin_model::listen::Socket| one.protocol.0 == Some(protocol) && one.port == port;
        !facts.has_sockets || facts.sockets.iter().any(seen)
    };
    let known: Vec<&KnownPort> = ports
        .iter()
        .filter(|port| listens(**port))
        .filter_map(|port| known_port(protocol, *port))
        .filter(|known| sensitive(known))
        .collect();
    let Some(first) = known.first() else { return Verdict::DoesNotApply };
    if names_sources(facts, judged.rule)
        || found.status != RuleStatus::Alive
        || !found.exact
        || let_through(judged.review.spaces, judged.rule).is_none()
    {
        return Verdict::pass(judged.rule.origin);
    }
    let twin = limited_elsewhere(estate, judged, protocol, &ports);
    let plain = known.iter().any(|known| known.encrypted != Encrypted::Yes);
    let rating = match (&twin, plain) {
        (Some(_), _) => CHECK.rated_at(Severity::Medium, "the other IP version names sources"),
        (None, true) => CHECK.rated_at(Severity::Medium, "the usual service needs no encryption"),
        (None, false) => CHECK.rated("every source is permitted"),
    };
    let names: BTreeSet<&str> = known.iter().map(|known| known.name.as_str()).collect();
    let names = names.into_iter().collect::<Vec<_>>().join(", ");
    let version = match judged.review.filter.families {
        Families::Both => String::new(),
        one => format!(" over {one}"),
    };
    let more = if twin.is_some() { " The other IP version permits named sources only." } else { "" };
    Verdict::Fail(Fail {
        rating,
        title: format!("{names} is open to every source{version}").into(),
        detail: format!(
            "The rule `{}` of chain {} names no source. The usual service is {} ({}).{more}",
            named(judged.rule),
            judged.chain.name,
            first.name,
            first.kind.words()
        )
        .into(),
        evidence: std::iter::once(judged.rule.origin).chain(twin).collect(),
    })
}

/// The permit of the other IP version for one of the ports, where it names sources.
fn limited_elsewhere(
    estate: &Analyses,
    judged: &Judged<'_>,
    protocol: u8,
    ports: &BTreeSet<u16>,
) -> Option<Origin> {
    let own = judged.review.filter.families;
    let others: Vec<_> = estate
        .filter_reviews(judged.device)
        .into_iter()
        .filter(|review| {
            own != Families::Both && review.filter.families != own && review.filter.families != Families::Both
        })
        .collect();
    let permits: Vec<(Origin, bool)> = others
        .iter()
        .flat_map(|review| &review.filter.chains)
        .flat_map(|chain| &chain.rules)
        .filter(|rule| rule.target == Target::Accept)
        .filter(|rule| opened(rule).is_some_and(|(other, of)| other == protocol && !of.is_disjoint(ports)))
        .map(|rule| (rule.origin, names_sources(&estate.devices[judged.device].facts, rule)))
        .collect();
    permits.iter().all(|(_, limited)| *limited).then(|| permits.first().map(|(origin, _)| *origin)).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let addresses = (
            "d/ip-addr.json",
            r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.9","prefixlen":24},{"local":"fd00:4::9","prefixlen":64}]}]"#,
        );
        let list = |rule: &str| format!("*filter\n:INPUT DROP [0:0]\n-A INPUT {rule} -j ACCEPT\nCOMMIT\n");
        let [open, named, side, site, shell, mixed] = [
            list("-p tcp --dport 5432"),
            list("-s 10.4.0.20 -p tcp --dport 5432"),
            list("-i eth0 -p tcp --dport 5432"),
            list("-p tcp --dport 443"),
            list("-p tcp --dport 23"),
            list("-p tcp -m multiport --dports 443,2049"),
        ];
        const V4: &str = "d/iptables-save.txt";
        const V6: &str = "d/ip6tables-save.txt";
        let sockets = ("d/ss.txt", "tcp LISTEN 0 9 0.0.0.0:443 0.0.0.0:*\n");
        run(
            &CHECK,
            &[
                ("a database", &[addresses, (V4, &open)], &["fail medium d iptables-save.txt:3"]),
                ("by the only interface", &[addresses, (V4, &side)], &["fail medium d iptables-save.txt:3"]),
                ("for one client", &[addresses, (V4, &named)], &["pass d"]),
                (
                    "for one client over IPv4 alone",
                    &[addresses, (V4, &named), (V6, &open)],
                    &["pass d", "fail medium d ip6tables-save.txt:3 iptables-save.txt:3"],
                ),
                ("a web site", &[addresses, (V4, &site)], &[]),
                ("a clear-text shell", &[addresses, (V4, &shell)], &["fail medium d iptables-save.txt:3"]),
                ("among others", &[addresses, (V4, &mixed)], &["fail medium d iptables-save.txt:3"]),
                ("nothing listens", &[addresses, (V4, &mixed), sockets], &[]),
            ],
        );
    }
}
