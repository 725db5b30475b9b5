//! Both ends of a connection agree on weak algorithms.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use trevlin_analysis::crypto::algorithms::Algorithm;
use trevlin_analysis::crypto::negotiation::{agreed, agreed_without_group};
use trevlin_analysis::crypto::pairs::{End, client_pairs, ike_pairs};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Origin;
use trevlin_model::ipsec::{Child, IkeDaemon, Selectors};
use trevlin_model::offer::OfferPart;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/weak-algorithm-agreed",
    area: Area::Ciphers,
    title: "Both ends agree on weak algorithms",
    severity: Severity::Medium,
    why: "A weak algorithm in a list of proposals may never be used; one that both ends choose protects the traffic today. \
          Traffic that is recorded now can be read by an attacker who breaks it later.",
    fix: "Add a stronger proposal at both ends and place it first, then remove the weak one. Change both ends at the same time, \
          since the connection is not established without a common proposal.",
    judged: "Judged where both ends of an IPsec connection are among the exports: sites that call each other, and clients with the one \
             connection of their server that is for them. Fails where the proposal that either end chooses when it responds contains \
             an algorithm that is broken, deprecated or being phased out, low where it only lacks a group for the keys of \
             the data; algorithms that are chosen from one side only are not reported here.",
    references: &["RFC 7296, 2.7", "RFC 8247, 2", "NIST SP 800-77 Rev. 1, 3.2"],
    needs: &[Need::Services, Need::Ssh],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let pairs = ike_pairs(estate).into_iter().chain(client_pairs(estate));
    pairs
        .map(|(first, second)| {
            Answer::new(first.device, Subject::tunnel(first.tunnel), judge(estate, &first, &second))
        })
        .collect()
}

/// Children of both ends for the same networks.
fn children<'a>(a: &'a End<'_>, b: &'a End<'_>) -> impl Iterator<Item = (&'a Child, &'a Child)> {
    let meet = |one: &Selectors, other: &Selectors| {
        one.networks
            .iter()
            .any(|(range, _)| other.networks.iter().any(|(taken, _)| taken.intersection(range).is_some()))
    };
    a.connection.children.iter().filter(|child| child.wraps()).flat_map(move |ours| {
        let theirs = b.connection.children.iter().filter(|child| child.wraps());
        theirs
            .filter(move |theirs| meet(&ours.local, &theirs.remote) && meet(&ours.remote, &theirs.local))
            .map(move |theirs| (ours, theirs))
    })
}

fn judge(estate: &EstateMap, a: &End<'_>, b: &End<'_>) -> Verdict {
    let mut found: Vec<(OfferPart, &Algorithm, [Origin; 2])> = Vec::new();
    for part in [OfferPart::Control, OfferPart::Data] {
        let both = agreed(&a.tunnel.offers, &b.tunnel.offers, part);
        found.extend(both.into_iter().map(|(algorithm, lines)| (part, algorithm, lines)));
    }
    if found.is_empty() {
        return Verdict::DoesNotApply;
    }
    let without_group = children(a, b).find_map(|(ours, theirs)| {
        // Libreswan takes the group of the connection where a proposal names none.
        let own_group = |end: &End<'_>, child: &Child| {
            end.connection.daemon == IkeDaemon::Libreswan && child.forward_secrecy.value() == Some(&true)
        };
        if own_group(a, ours) || own_group(b, theirs) {
            return None;
        }
        let of = |end: &'_ End<'_>, child: &Child| -> Vec<usize> {
            child.offers.iter().copied().filter(|at| *at < end.tunnel.offers.len()).collect()
        };
        let (first, second) = (of(a, ours), of(b, theirs));
        let lines = agreed_without_group(
            first.iter().map(|at| &a.tunnel.offers[*at]),
            second.iter().map(|at| &b.tunnel.offers[*at]),
        )?;
        Some((ours, lines))
    });
    let weak: Vec<_> = found.iter().filter_map(|one| Some((one.1.status.severity()?, *one))).collect();
    let other = &estate.devices[b.device].name;
    let Some((severity, (_, worst, _))) = weak.iter().max_by_key(|(severity, _)| *severity).copied() else {
        let Some((child, lines)) = without_group else {
            return Verdict::pass_lines(found.iter().flat_map(|(.., lines)| *lines).collect());
        };
        return Verdict::Fail(Fail {
            rating: CHECK
                .rated_at(Severity::Low, "both ends choose a proposal without a key exchange of its own"),
            title: format!("{} and {other} agree on keys without forward secrecy", a.tunnel.name).into(),
            detail: format!(
                "The proposals that both ends choose for {} name no group ({}, {}).",
                child.name,
                estate.place(lines[0]),
                estate.place(lines[1])
            )
            .into(),
            evidence: lines.to_vec(),
        });
    };
    let (mut names, mut told): (Vec<&str>, Vec<String>) = (Vec::new(), Vec::new());
    let mut evidence: Vec<Origin> = Vec::new();
    for (_, (part, algorithm, lines)) in &weak {
        if !names.contains(&algorithm.name.as_str()) {
            names.push(&algorithm.name);
        }
        let what = if *part == OfferPart::Control { "keys" } else { "data" };
        told.push(format!(
            "{} for {what} ({}, {})",
            algorithm.name,
            estate.place(lines[0]),
            estate.place(lines[1])
        ));
        for line in lines {
            if !evidence.contains(line) {
                evidence.push(*line);
            }
        }
    }
    if let Some((child, lines)) = without_group {
        told.push(format!(
            "no group for {} ({}, {})",
            child.name,
            estate.place(lines[0]),
            estate.place(lines[1])
        ));
        evidence.extend(lines);
        evidence.dedup();
    }
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(
            severity,
            format!("{} is {}, and both ends choose it", worst.name, worst.status.word()),
        ),
        title: format!("{} and {other} agree on {}", a.tunnel.name, names.join(" and ")).into(),
        detail: format!("Both ends choose {}.", told.join("; ")).into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    fn end(own: &str, other: &str, proposals: &str) -> String {
        format!(
            "connections {{\n c {{\n  local_addrs = {own}\n  remote_addrs = {other}\n  proposals = {proposals}\n  local {{ auth = pubkey }}\n  \
             remote {{ auth = pubkey }}\n  children {{\n   n {{ esp_proposals = aes256gcm16-modp3072 }}\n  }}\n }}\n}}\n"
        )
    }

    #[test]
    fn cases() {
        const GOOD: &str = "aes256-sha256-modp3072";
        const OLD: &str = "aes256-sha1-modp1024";
        let (one, two) = ("a/etc/swanctl/swanctl.conf", "b/etc/swanctl/swanctl.conf");
        let site = |first: &str, second: &str| {
            [end("192.0.2.1", "198.51.100.1", first), end("198.51.100.1", "192.0.2.1", second)]
        };
        for (what, [first, second], wanted) in [
            ("both old", site(OLD, OLD), &["fail medium a swanctl.conf:5 swanctl.conf:5"][..]),
            (
                "one offers more",
                site(OLD, &format!("{GOOD},{OLD}")),
                &["fail medium a swanctl.conf:5 swanctl.conf:5"],
            ),
            ("both prefer the better", site(&format!("{GOOD},{OLD}"), &format!("{GOOD},{OLD}")), &["pass a"]),
            ("each prefers another", site(&format!("{GOOD},{OLD}"), &format!("{OLD},{GOOD}")), &["pass a"]),
            ("nothing in common for keys", site(GOOD, OLD), &["pass a"]),
            (
                "a client and its server",
                [end("%any", "198.51.100.1", OLD), end("198.51.100.1", "%any", OLD)],
                &["fail medium a swanctl.conf:5 swanctl.conf:5"],
            ),
        ] {
            let addresses = (
                "b/running/ip-addr.json",
                r#"[{"ifname":"eth0","addr_info":[{"local":"198.51.100.1","prefixlen":24}]}]"#,
            );
            run(&CHECK, &[(what, &[(one, &first), (two, &second), addresses], wanted)]);
        }
        // Proposals for data, of children for the same networks.
        let child = |esp: &str, own: &str, other: &str, mine: &str, theirs: &str| {
            end(mine, theirs, GOOD).replace(
                "esp_proposals = aes256gcm16-modp3072",
                &format!("esp_proposals = {esp}\n    local_ts = {own}\n    remote_ts = {other}"),
            )
        };
        let (a, b) = ("192.0.2.1", "198.51.100.1");
        for (first, second, wanted) in [
            ("aes256gcm16", "aes256gcm16-modp3072,aes256gcm16", "fail low a swanctl.conf:9 swanctl.conf:9"),
            ("aes256gcm16-modp3072,aes256gcm16", "aes256gcm16-modp3072,aes256gcm16", "pass a"),
            ("aes256gcm16-modp3072", "aes256gcm16", "pass a"),
        ] {
            let first = child(first, "10.4.0.0/24", "10.5.0.0/24", a, b);
            let second = child(second, "10.5.0.0/24", "10.4.0.0/24", b, a);
            run(&CHECK, &[(wanted, &[(one, &first), (two, &second)], &[wanted])]);
        }
    }
}
