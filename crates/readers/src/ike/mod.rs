//! Connections of strongSwan, as far as their addresses go: proposals and logins are not judged yet.

pub(crate) mod ipsec_conf;
pub(crate) mod swanctl;

use crate::addresses;
use std::net::Ipv4Addr;
use trevlin_model::offer::{Offer, OfferPart, Offered, Spelling};
use trevlin_model::plan::AddressPlan;
use trevlin_model::{IpRange, MalformedAddress, Origin, Pool, Setting};

/// A pool of virtual addresses from a prefix or a range. The ends of an IPv4 prefix are for nobody (strongSwan leaves out
/// the network's own and its broadcast address).
fn pool(name: &str, text: &str, origin: Origin) -> Pool {
    let mut pool = Pool::new(name, origin);
    // A plug-in may answer for callers inside; which are loaded stands elsewhere.
    pool.placement =
        Setting::Unknown { why: "whether the farp plug-in is loaded stands in strongswan.conf".into() };
    let Some(range) = addresses::take(text, origin, &mut pool.malformed, addresses::range_or_prefix) else {
        return pool;
    };
    let prefix = text.contains('/').then(|| range.network()).flatten();
    pool.network = prefix.filter(|net| net.prefix_len() < net.max_prefix_len());
    let inner = match (prefix, range.first(), range.last()) {
        (Some(net), std::net::IpAddr::V4(first), std::net::IpAddr::V4(last)) if net.prefix_len() < 31 => {
            let ends = (first.to_bits() + 1, last.to_bits() - 1);
            IpRange::new(Ipv4Addr::from_bits(ends.0).into(), Ipv4Addr::from_bits(ends.1).into()).ok()
        }
        _ => Some(range),
    };
    pool.ranges.extend(inner.map(|range| (range, origin)));
    pool
}

/// Traffic selectors of the other end: networks that lie behind it, or everything.
fn selectors(text: &str, origin: Origin, malformed: &mut Vec<MalformedAddress>) -> Vec<IpRange> {
    let mut found = Vec::new();
    for piece in text.split(',').map(str::trim) {
        // `[protocol/port]` may follow, and words stand for addresses known only once the tunnel is up.
        let bare = piece.split('[').next().unwrap_or(piece).trim();
        if bare.is_empty() || bare == "dynamic" || bare.starts_with('%') {
            continue;
        }
        found.extend(addresses::take(bare, origin, malformed, addresses::range_or_prefix));
    }
    found
}

/// The algorithms of a list of proposals: suites with commas between them, algorithms with dashes between them. A `default`
/// stands for the daemon's own list, which has nothing weak since version 5.4. Extended sequence numbers are no algorithm.
fn offer(part: OfferPart, value: &str, origin: Origin) -> Offer {
    let mut algorithms: Vec<Offered> = Vec::new();
    for suite in value.trim_end_matches('!').split(',').map(str::trim) {
        for word in suite.split('-').filter(|word| !word.is_empty()) {
            // Additional key exchanges are numbered (`ke1_mlkem768`).
            let name = match word.split_once('_') {
                Some((numbered, rest)) if numbered.starts_with("ke") && numbered.len() == 3 => rest,
                _ => word,
            };
            if matches!(name, "default" | "esn" | "noesn" | "none")
                || algorithms.iter().any(|one| one.name == name)
            {
                continue;
            }
            algorithms.push(Offered {
                name: name.to_owned(),
                role: None,
                versions: None,
                origin,
                default: None,
            });
        }
    }
    Offer { part, spelling: Spelling::StrongSwan, algorithms, open: None, origin }
}

/// Takes what one end of a connection may reach: `remote` lies behind the other end; where callers come in, `local` is
/// what they send through the tunnel.
fn networks(plan: &mut AddressPlan, local: Option<(&str, Origin)>, remote: Option<(&str, Origin)>) {
    let callers = !plan.pools.is_empty();
    if let Some((text, origin)) = remote
        && !callers
    {
        let found = selectors(text, origin, &mut plan.malformed);
        plan.remote.extend(found.into_iter().map(|range| (range, origin)));
    }
    if let Some((text, origin)) = local
        && callers
    {
        let found = selectors(text, origin, &mut plan.malformed);
        plan.sent_through.extend(found.into_iter().map(|range| (range, origin)));
    }
}
