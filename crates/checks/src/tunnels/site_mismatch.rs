//! The two ends of one site-to-site tunnel disagree.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use trevlin_analysis::crypto::negotiation::{ROLES, Suite, in_common, suites};
use trevlin_analysis::crypto::pairs::{End, bare, client_pairs, ike_pairs};
use trevlin_analysis::crypto::shared_keys::keys_of;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::ipsec::{AuthRound, Child, IkeVersions};
use trevlin_model::offer::{AlgorithmRole, OfferPart};
use trevlin_model::{IpRange, Origin};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/site-mismatch",
    area: Area::Tunnels,
    title: "Site-to-site settings do not match",
    severity: Severity::Medium,
    why: "Where the two ends of a tunnel have different networks, algorithms or identities, it carries less traffic than \
          expected or is not established. Protected traffic then takes another path, or is sent unencrypted. A mismatch also \
          shows an uncoordinated change.",
    fix: "Decide which end is right and change the other: networks mirrored, at least one common proposal, and the identity \
          that each end expects.",
    judged: "Judged where both ends are among the exports: connections of two devices to each other's addresses or names, and \
             clients with the one connection of their server that is for them. Fails where IKE versions or proposals have nothing in common, where an identity, authentication method or \
             pre-shared key does not match, and where networks are not mirrored; lower where only some networks differ.",
    references: &["RFC 7296, 2.9", "swanctl.conf(5)", "ipsec.conf(5)"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (first, second) in ike_pairs(estate).into_iter().chain(client_pairs(estate)) {
        answers.push(Answer::new(
            first.device,
            Subject::tunnel(first.tunnel),
            judge(estate, &first, &second),
        ));
    }
    answers
}

/// Something the ends disagree about: in words, with the lines of both, and whether the tunnel cannot come up with it.
struct Difference {
    text: String,
    lines: [Origin; 2],
    fatal: bool,
}

fn judge(estate: &EstateMap, a: &End<'_>, b: &End<'_>) -> Verdict {
    let mut found = Vec::new();
    versions(a, b, &mut found);
    for (part, what) in [(OfferPart::Control, "for keys"), (OfferPart::Data, "for data")] {
        proposals(estate, a, b, part, what, &mut found);
    }
    for (one, other) in [(a, b), (b, a)] {
        identities(estate, one, other, &mut found);
    }
    shared_keys(estate, a, b, &mut found);
    networks(estate, a, b, &mut found);
    let Some(first) =
        found.iter().position(|one| one.fatal).or(if found.is_empty() { None } else { Some(0) })
    else {
        return Verdict::pass_lines(vec![a.tunnel.origin, b.tunnel.origin]);
    };
    found.swap(0, first);
    let fatal = found[0].fatal;
    let told: Vec<_> = found.iter().map(|one| one.text.clone()).collect();
    let mut evidence: Vec<Origin> = Vec::new();
    // The line to cite is one of the device that is answered for.
    for one in &mut found {
        one.lines.sort_by_key(|origin| !estate.devices[a.device].exports.contains(&origin.export));
    }
    for origin in found.iter().flat_map(|one| one.lines) {
        if !evidence.contains(&origin) {
            evidence.push(origin);
        }
    }
    let (one, other) = (&estate.devices[a.device].name, &estate.devices[b.device].name);
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(
            if fatal { CHECK.severity } else { Severity::Low },
            if fatal {
                "the tunnel is not established, or does not stay up"
            } else {
                "the tunnel is established and carries less than one end defines"
            },
        ),
        title: format!("{} of {one} and {} of {other} do not match", a.tunnel.name, b.tunnel.name).into(),
        detail: format!("{}.", told.join("; ")).into(),
        evidence,
    })
}

fn line(end: &End<'_>, origin: Option<Origin>) -> Origin {
    origin.unwrap_or(end.tunnel.origin)
}

fn versions(a: &End<'_>, b: &End<'_>, found: &mut Vec<Difference>) {
    let both = [a, b].map(|end| end.connection.versions.value());
    if let [Some(IkeVersions::First), Some(IkeVersions::Second)]
    | [Some(IkeVersions::Second), Some(IkeVersions::First)] = both
    {
        found.push(Difference {
            text: "one end uses IKEv1 only, the other IKEv2 only".into(),
            lines: [line(a, a.connection.versions.origin()), line(b, b.connection.versions.origin())],
            fatal: true,
        });
    }
}

fn proposals(
    estate: &EstateMap,
    a: &End<'_>,
    b: &End<'_>,
    part: OfferPart,
    what: &str,
    found: &mut Vec<Difference>,
) {
    let of = |end: &End<'_>| -> Option<(Vec<Suite>, Origin)> {
        let offers = || end.tunnel.offers.iter().filter(|offer| offer.part == part);
        Some((suites(offers())?, offers().next()?.origin))
    };
    let (Some((ours, first)), Some((theirs, second))) = (of(a), of(b)) else { return };
    let meet = |roles: &[AlgorithmRole]| {
        ours.iter().any(|one| theirs.iter().any(|other| in_common(one, other, roles)))
    };
    if meet(&ROLES) {
        return;
    }
    // With version 2 the first keys of a child come from the connection's own; its group counts from the first renewal on.
    let at_first = part == OfferPart::Data && meet(&ROLES[..3]);
    let which = if at_first { "no group of a proposal" } else { "no proposal" };
    let when = if at_first { ", which takes effect at the first rekeying" } else { "" };
    found.push(Difference {
        text: format!("{which} {what} matches{when} ({}, {})", estate.place(first), estate.place(second)),
        lines: [first, second],
        fatal: true,
    });
}

/// Whether the identity that one end expects is none that the other shows, and whether it proves itself the way that is asked.
fn identities(estate: &EstateMap, one: &End<'_>, other: &End<'_>, found: &mut Vec<Difference>) {
    let name = |end: &End<'_>| estate.devices[end.device].name.clone();
    for (expected, shown) in one.connection.remote.iter().zip(&other.connection.local) {
        if let (Some(asked), Some(given)) = (expected.proof.value(), shown.proof.value())
            && asked != given
        {
            found.push(Difference {
                text: format!(
                    "{} requires a {} and {} presents a {}",
                    name(one),
                    asked.words(),
                    name(other),
                    given.words()
                ),
                lines: [line(one, expected.proof.origin()), line(other, shown.proof.origin())],
                fatal: true,
            });
        }
        let identity = |round: &AuthRound| round.identity.clone().filter(|_| !round.anybody());
        // An identity that is not stated is the address, or what the certificate says.
        if let (Some((asked, from)), Some((given, to))) = (identity(expected), identity(shown))
            && bare(&asked) != bare(&given)
            && !asked.contains('*')
        {
            found.push(Difference {
                text: format!(
                    "{} expects the identity {asked}, and {} presents {given}",
                    name(one),
                    name(other)
                ),
                lines: [from, to],
                fatal: true,
            });
        }
    }
}

/// Whether the pre-shared keys of the ends are equal; neither is printed.
fn shared_keys(estate: &EstateMap, a: &End<'_>, b: &End<'_>, found: &mut Vec<Difference>) {
    let by_key = |end: &End<'_>| end.connection.shared_key().is_some();
    let (ours, theirs) = (keys_of(estate, a.device, a.connection), keys_of(estate, b.device, b.connection));
    if !by_key(a) || !by_key(b) || ours.is_empty() || theirs.is_empty() {
        return;
    }
    let same = ours.iter().any(|one| theirs.iter().any(|other| one.held.secret.same_as(&other.held.secret)));
    if !same {
        found.push(Difference {
            text: "the pre-shared keys differ".into(),
            lines: [ours[0].origin, theirs[0].origin],
            fatal: true,
        });
    }
}

/// Networks of one end, and those that the other end expects there.
fn networks(estate: &EstateMap, a: &End<'_>, b: &End<'_>, found: &mut Vec<Difference>) {
    for (one, other) in [(a, b), (b, a)] {
        let own = |child: &Child| child.local.networks.iter().map(|(range, _)| *range).collect::<Vec<_>>();
        let taken = |child: &Child| child.remote.networks.iter().map(|(range, _)| *range).collect::<Vec<_>>();
        let ours: Vec<IpRange> = one.connection.children.iter().flat_map(own).collect();
        let theirs: Vec<IpRange> = other.connection.children.iter().flat_map(taken).collect();
        if ours.is_empty() || theirs.is_empty() {
            continue;
        }
        let listed = |all: &[IpRange], but: &[IpRange]| -> Vec<String> {
            all.iter().filter(|range| !but.contains(range)).map(IpRange::short).collect()
        };
        let (only_here, only_there) = (listed(&ours, &theirs), listed(&theirs, &ours));
        if only_here.is_empty() && only_there.is_empty() {
            continue;
        }
        let place = |end: &End<'_>, own: bool| {
            let side = |child: &Child| if own { child.local.origin } else { child.remote.origin };
            line(end, end.connection.children.iter().find_map(side))
        };
        let name = |end: &End<'_>| &estate.devices[end.device].name;
        let mut parts = Vec::new();
        if !only_here.is_empty() {
            parts.push(format!("{} has {} behind it", name(one), only_here.join(", ")));
        }
        if !only_there.is_empty() {
            parts.push(format!("{} expects {} there", name(other), only_there.join(", ")));
        }
        // Something in common comes up, narrowed to that (RFC 7296, 2.9); with version 1 both have to be the same.
        let meet = ours.iter().any(|range| theirs.iter().any(|taken| taken.intersection(range).is_some()));
        let first =
            [one, other].iter().any(|end| end.connection.versions.value() == Some(&IkeVersions::First));
        found.push(Difference {
            text: parts.join(", and "),
            lines: [place(one, true), place(other, false)],
            fatal: !meet || first,
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    fn end(own: &str, other: &str, networks: (&str, &str), more: &str, key: &str) -> String {
        format!(
            "connections {{\n s {{\n  local_addrs = {own}\n  remote_addrs = {other}\n  proposals = aes256gcm16-prfsha384-ecp384\n  local {{\n   auth = psk\n   id = {own}\n  }}\n  \
             remote {{\n   auth = psk\n   id = {other}\n  }}\n  children {{\n   n {{\n    local_ts = {}\n    remote_ts = {}\n    esp_proposals = aes256gcm16-ecp384\n   }}\n  }}\n  {more}\n }}\n}}\n\
             secrets {{\n ike-1 {{\n  id-1 = {own}\n  id-2 = {other}\n  secret = {key}\n }}\n}}\n",
            networks.0, networks.1
        )
    }

    #[test]
    fn cases() {
        let (a, b) = ("192.0.2.1", "198.51.100.9");
        let one = end(a, b, ("10.4.0.0/24", "10.7.0.0/24"), "", "Xk7vQ2mZ9pLr4TnWc8yBd3");
        let mirrored = end(b, a, ("10.7.0.0/24", "10.4.0.0/24"), "", "Xk7vQ2mZ9pLr4TnWc8yBd3");
        let wider = end(b, a, ("10.7.0.0/16", "10.4.0.0/24"), "", "Xk7vQ2mZ9pLr4TnWc8yBd3");
        let other_net = end(b, a, ("10.8.0.0/24", "10.4.0.0/24"), "", "Xk7vQ2mZ9pLr4TnWc8yBd3");
        let other_suite = mirrored.replace("aes256gcm16-prfsha384-ecp384", "aes128-sha256-modp2048");
        let other_group = mirrored.replace("aes256gcm16-ecp384", "aes256gcm16-modp3072");
        let other_key = end(b, a, ("10.7.0.0/24", "10.4.0.0/24"), "", "Ab7vQ2mZ9pLr4TnWc8yBd4");
        let other_id = mirrored.replacen(&format!("id = {b}"), "id = yard.example", 1);
        let other_proof = mirrored.replacen("auth = psk", "auth = pubkey", 1);
        let version = end(b, a, ("10.7.0.0/24", "10.4.0.0/24"), "version = 1", "Xk7vQ2mZ9pLr4TnWc8yBd3");
        let commented = mirrored.replace("10.7.0.0/24", "10.7.0.0/24 # 10.9.0.0/24");
        let second = one.replace("  proposals", "  version = 2\n  proposals");
        for (name, ours, theirs, wanted) in [
            ("mirrored", &one, &mirrored, &["pass a"][..]),
            ("in a comment", &one, &commented, &["pass a"]),
            ("a wider network", &one, &wider, &["fail low a swanctl.conf:17 swanctl.conf:16"]),
            ("another network", &one, &other_net, &["fail medium a swanctl.conf:17 swanctl.conf:16"]),
            ("another suite", &one, &other_suite, &["fail medium a swanctl.conf:5 swanctl.conf:5"]),
            (
                "another group for data",
                &one,
                &other_group,
                &["fail medium a swanctl.conf:18 swanctl.conf:18"],
            ),
            ("another key", &one, &other_key, &["fail medium a swanctl.conf:28 swanctl.conf:28"]),
            ("another identity", &one, &other_id, &["fail medium a swanctl.conf:12 swanctl.conf:8"]),
            ("another proof", &one, &other_proof, &["fail medium a swanctl.conf:11 swanctl.conf:7"]),
            ("another version", &second, &version, &["fail medium a swanctl.conf:5 swanctl.conf:21"]),
        ] {
            run(&CHECK, &[(name, &[("a/swanctl.conf", ours), ("b/swanctl.conf", theirs)], wanted)]);
        }
        let elsewhere = end("203.0.113.9", "203.0.113.7", ("10.7.0.0/24", "10.4.0.0/24"), "", "x");
        run(&CHECK, &[("no pair", &[("a/swanctl.conf", &one), ("b/swanctl.conf", &elsewhere)], &[])]);
    }

    #[test]
    fn two_programs_with_two_spellings() {
        let libreswan = |ike: &str| {
            format!(
                "conn s\n\tikev2=insist\n\tauthby=secret\n\tleft=192.0.2.1\n\tright=198.51.100.9\n\tike={ike}\n\tesp=aes_gcm256-null;dh20\n\tauto=add\n"
            )
        };
        let strongswan = "connections {\n s {\n  version = 2\n  local_addrs = 198.51.100.9\n  remote_addrs = 192.0.2.1\n  proposals = aes256gcm16-prfsha512-ecp384\n  \
                          local { auth = psk }\n  remote { auth = psk }\n  children {\n   n { esp_proposals = aes256gcm16-ecp384 }\n  }\n }\n}\n";
        for (ike, wanted) in [
            ("aes_gcm256-sha2_512;dh20", "pass a"),
            ("aes_gcm256-sha2_256;dh20", "fail medium a ipsec.conf:6 swanctl.conf:6"),
            ("aes256-sha2_512;dh20", "fail medium a ipsec.conf:6 swanctl.conf:6"),
            ("aes_gcm256-sha2_256;dh20,aes_gcm256-sha2_512;dh20", "pass a"),
        ] {
            run(
                &CHECK,
                &[(ike, &[("a/ipsec.conf", &libreswan(ike)), ("b/swanctl.conf", strongswan)], &[wanted])],
            );
        }
    }
}
