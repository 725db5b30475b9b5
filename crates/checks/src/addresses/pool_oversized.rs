//! A pool is far larger than its clients need.

use crate::addresses::pool_too_small::{Stores, words};
use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeSet;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/pool-oversized",
    area: Area::Addresses,
    title: "Client pool much larger than needed",
    severity: Severity::Info,
    why: "Every access rule for VPN clients names the whole range, and every other site must avoid it. A larger range is \
          more likely to overlap a network that is added later.",
    fix: "Reduce the pool to the number of clients with room for growth.",
    judged: "Fails where an IPv4 pool has room for at least 1,024 clients and for 64 times the number that the server \
             permits at a time or that its list of accounts names. Does not apply where neither is known.",
    references: &["RFC 1918, 5"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, baseline: &Baseline) -> Vec<Answer> {
    let (stores, mut answered) = (Stores::of(estate), BTreeSet::new());
    let mut answers: Vec<Answer> = Vec::new();
    for holder in &estate.plan().pools {
        let Some(pool) = &holder.pool else { continue };
        // IPv6 pools are large by design.
        let Some((_, origin)) = pool.ranges.first().filter(|(range, _)| range.first().is_ipv4()) else {
            continue;
        };
        if answered.contains(&(holder.device, &holder.name)) {
            continue;
        }
        let Some((least, _)) = stores.room(holder) else { continue };
        answered.insert((holder.device, &holder.name));
        let thresholds = baseline.at(holder.device);
        let (large, times) = (u128::from(thresholds.pool_clients), u128::from(thresholds.pool_times_need));
        let need = stores.needs(holder).into_iter().max_by_key(|need| need.clients);
        let verdict = match need {
            None => Verdict::DoesNotApply,
            Some(need) if least >= large && least / times >= u128::from(need.clients.max(1)) => {
                let (title, detail) = words(estate, &holder.name, least, *origin, &need);
                Verdict::Fail(Fail {
                    rating: CHECK.rated("it causes no failure, and occupies address space"),
                    title: title.into(),
                    detail: detail.into(),
                    evidence: vec![*origin, need.origin],
                })
            }
            Some(need) => Verdict::pass_by([*origin, need.origin], *origin),
        };
        answers.push(Answer::new(
            holder.device,
            Subject::of(SubjectKind::Addresses).with(&holder.name),
            verdict,
        ));
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (network, clients, wanted) in [
            ("10.8.0.0 255.255.0.0", "max-clients 20", &["fail info d s.conf:2 s.conf:4"][..]),
            ("10.8.0.0 255.255.0.0", "max-clients 2000", &["pass d"]),
            ("10.8.0.0 255.255.255.0", "max-clients 2", &["pass d"]),
            ("10.8.0.0 255.255.0.0", "", &["none d"]),
        ] {
            let text = format!("dev tun\nserver {network}\ntopology subnet\n{clients}\n");
            run(&CHECK, &[(network, &[("d/s.conf", &text)], wanted)]);
        }
    }
}
