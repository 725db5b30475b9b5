//! A pool is far larger than its callers need.

use crate::addresses::pool_too_small::{Stores, words};
use crate::check::{Answer, Check, Fail, Run, Verdict};
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
    why: "Every access rule for the callers names the whole range, and every other site must keep out of it. The larger it is, the more \
          likely it meets a network that somebody adds later, here or at a caller's place.",
    fix: "Set aside what the callers need with room to grow, and give the rest back.",
    judged: "Fails where an IPv4 pool has room for 1,024 callers or more, and for 64 times as many as the server lets in at a time or as its \
             list of logins names. Does not apply where neither is known.",
    references: &["RFC 1918, 5"],
    controls: &[],
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
        let need = stores.needs(holder).into_iter().max_by_key(|need| need.callers);
        let verdict = match need {
            None => Verdict::DoesNotApply,
            Some(need) if least >= large && least / times >= u128::from(need.callers.max(1)) => {
                let (title, detail) = words(estate, &holder.name, least, *origin, &need);
                Verdict::Fail(Fail {
                    rating: CHECK.rated("it works, and takes up room"),
                    title: title.into(),
                    detail: detail.into(),
                    evidence: vec![*origin, need.origin],
                })
            }
            Some(_) => Verdict::Pass,
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
