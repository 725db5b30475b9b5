//! Files are exported to more machines than can need them.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, of_kinds};
use crate::support::{StatePart, provide};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::IpRange;
use trevlin_model::served::{AuthRequirement, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/nfs-export-broad",
    area: Area::Rules,
    title: "NFS export to broad networks",
    severity: Severity::Low,
    why: "NFS checks the client address only, so every host of the named network has access, including guest devices and \
          cameras. A network wider than that of the clients restricts nothing.",
    fix: "Name the hosts that mount the export, or their network only.",
    judged: "Fails for each export to a network that is wider than a connected network of the server, or holds more than \
             4096 addresses; one level higher where it is writable. Passes where hosts or one network are named, and with \
             Kerberos. Exports to any host are reported by another check. Undetermined where the addresses of the server \
             were not exported and more than 256 addresses are named.",
    references: &["exports(5)", "NIST SP 800-209, 4.3"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Exports]) {
        for part in one.served.parts.iter().filter(|part| !part.sources.is_everybody()) {
            answers.push(Answer::new(
                one.device,
                Subject::part(one.served, part).limited_to(&part.sources),
                judge(one, part, baseline.at(one.device)),
            ));
        }
    }
    answers
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource, thresholds: &Thresholds) -> Verdict {
    let facts = &one.estate.devices[one.device].facts;
    let own: Vec<IpRange> = facts
        .interfaces
        .iter()
        .flat_map(|one| &one.addresses)
        .map(|one| IpRange::from(one.net.trunc()))
        .collect();
    // IPv6 networks are wide by nature; only what goes beyond one of them counts there.
    let wide = part.sources.ranges.iter().find(|range| {
        let wider = own.iter().any(|net| range.covers(net) && *range != net && net.size() > 1);
        wider || (range.first().is_ipv4() && range.size() > u128::from(thresholds.export_addresses))
    });
    let trusting = matches!(part.login.value(), Some(AuthRequirement::Nothing | AuthRequirement::Address));
    // Without its addresses, the size of its network is not known.
    let unsure = part.sources.ranges.iter().find(|range| range.first().is_ipv4() && range.size() > 256);
    if let Some(range) = unsure.filter(|_| trusting && !facts.has_interfaces && wide.is_none()) {
        let question = format!(
            "{}: it decides whether export {} to {} is wider than the network of its clients.",
            provide(one.estate, one.device, &[StatePart::Addresses]),
            part.name,
            range.short()
        );
        return Verdict::ask(question, part.lines());
    }
    match wide.filter(|_| trusting) {
        Some(range) => one.fail(
            if part.is_written() { CHECK.rating().raised("the export is writable") } else { CHECK.rating() },
            part,
            format!("NFS export {} is permitted to all of {}", part.name, range.short()),
            format!("The network has {} addresses.", range.size()),
            part.lines(),
        ),
        None => one.holds_by_limit(part),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const PLACE: (&str, &str) =
            ("d/ip-addr.json", r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.9","prefixlen":24}]}]"#);
        for (text, wanted) in [
            ("/a 10.0.0.0/8(ro)\n", &["fail low d exports:1"][..]),
            ("/a 10.4.0.0/16(rw)\n", &["fail medium d exports:1"]),
            ("/a 10.4.0.0/23(ro)\n", &["fail low d exports:1"]),
            ("/a 10.4.0.0/24(rw)\n", &["pass d"]),
            ("/a 10.9.0.0/22(rw)\n", &["pass d"]),
            ("/a 10.0.0.0/8(rw,sec=krb5)\n", &["pass d"]),
            ("/a *(rw)\n", &[]),
        ] {
            run(&CHECK, &[(text, &[PLACE, ("d/etc/exports", text)], wanted)]);
        }
        for (text, wanted) in [("/a 10.4.0.0/22(rw)\n", "ask d"), ("/a 10.4.0.0/24(rw)\n", "pass d")] {
            run(&CHECK, &[(text, &[("d/etc/exports", text)], &[wanted])]);
        }
    }
}
