//! Which pre-shared key a connection uses.

use crate::crypto::pairs::bare;
use std::collections::BTreeSet;
use trevlin_estate::assemble::Estate;
use trevlin_model::glob::{Signs, matches};
use trevlin_model::ike::PreSharedKey;
use trevlin_model::ipsec::{AuthRound, IpsecConnection};

/// How well an entry is about one end: not at all, for any, by name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Fit {
    No,
    Any,
    Named,
}

/// The pre-shared keys that a connection may use. Of several entries the one that is best about the peer counts, then the one that is
/// best about the own end: an entry with the own identity alone is for any peer (ipsec.secrets(5); swanctl.conf(5), `secrets.ike`).
/// Of peers that are not fixed, those count that have no entry of their own.
pub fn keys_of<'a>(estate: &'a Estate, at: usize, ipsec: &IpsecConnection) -> Vec<&'a PreSharedKey> {
    let device = &estate.devices[at];
    let mut own = identities(&ipsec.local);
    own.extend(ipsec.local_addresses.iter().map(|(text, _)| bare(text).to_owned()));
    own.retain(|name| !is_placeholder(name));
    if own.is_empty() {
        // The address of the interface that the packet arrives on.
        let interfaces = device.facts.interfaces.iter().chain(&device.facts.stored_interfaces);
        own.extend(interfaces.flat_map(|one| &one.addresses).map(|one| one.net.addr().to_string()));
    }
    let mut peer = identities(&ipsec.remote);
    peer.extend(ipsec.remote_addresses.iter().map(|(text, _)| bare(text).to_owned()));
    let patterns: Vec<String> = peer.iter().filter(|name| is_placeholder(name)).cloned().collect();
    peer.retain(|name| !is_placeholder(name));
    let score = |key: &PreSharedKey| {
        if key.identities.is_empty() || !key.has_peers() {
            return (Fit::Any, Fit::Any);
        }
        let fit = |names: &BTreeSet<String>| {
            let named = |one: &String| names.contains(bare(one));
            match key.identities.iter().any(named) {
                true => Fit::Named,
                false if key.is_for_anybody() => Fit::Any,
                false => Fit::No,
            }
        };
        (fit(&peer), fit(&own))
    };
    // Whether an entry for any or one with the own identity alone is the better one differs between daemons: either may be used.
    let rank = |score| match score {
        (Fit::No, Fit::Any | Fit::No) => None,
        (Fit::No, Fit::Named) => Some((Fit::Any, Fit::Any)),
        score => Some(score),
    };
    let usable: Vec<_> =
        device.facts.pre_shared_keys.iter().filter_map(|key| Some((rank(score(key))?, key))).collect();
    if let Some(best) = usable.iter().map(|(score, _)| *score).max() {
        return usable.into_iter().filter(|(score, _)| *score == best).map(|(_, key)| key).collect();
    }
    if !peer.is_empty() {
        return Vec::new();
    }
    // Only peers with an entry of their own can log in.
    let fits =
        |name: &str| patterns.iter().any(|pattern| is_any(pattern) || matches(name, pattern, Signs::Plain));
    let keys = device.facts.pre_shared_keys.iter();
    keys.filter(|key| patterns.is_empty() || key.identities.iter().any(|one| fits(bare(one)))).collect()
}

fn identities(rounds: &[AuthRound]) -> BTreeSet<String> {
    rounds.iter().filter_map(|round| round.identity.as_ref()).map(|(name, _)| bare(name).to_owned()).collect()
}

/// Whether it is for several peers: `%any`, a pattern, a network.
fn is_placeholder(name: &str) -> bool {
    is_any(name) || name.contains(['*', '/']) || name == "0.0.0.0" || name == "::"
}

fn is_any(name: &str) -> bool {
    name.is_empty() || name == "*" || name.starts_with('%')
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_estate::testing::estate_with;

    /// The lines of the keys of the first connection.
    fn lines(connection: &str, secrets: &str) -> Vec<usize> {
        let estate = estate_with(&[("d/etc/ipsec.conf", connection), ("d/etc/ipsec.secrets", secrets)], "");
        let facts = &estate.devices[0].facts;
        let ipsec = facts.tunnels[0].ipsec.as_deref().expect("a connection");
        let export = |key: &PreSharedKey| {
            let before = &secrets[..key.origin.start as usize];
            before.matches('\n').count() + 1
        };
        keys_of(&estate, 0, ipsec).into_iter().map(export).collect()
    }

    #[test]
    fn the_best_entry_counts() {
        const SITE: &str = "conn c\n\tleft=192.0.2.1\n\tright=198.51.100.7\n\tauthby=secret\n\tauto=add\n";
        const CALLED: &str = "conn c\n\tleft=192.0.2.1\n\tright=%any\n\tauthby=secret\n\tauto=add\n";
        const NAMED: &str = "conn c\n\tleft=192.0.2.1\n\tleftid=@quay.example\n\tright=%any\n\trightid=*@crew.example\n\tauthby=secret\n\tauto=add\n";
        for (connection, secrets, wanted) in [
            (SITE, "192.0.2.1 198.51.100.7 : PSK \"a\"\n: PSK \"b\"\n", &[1][..]),
            (SITE, ": PSK \"b\"\n", &[1]),
            (SITE, "192.0.2.1 : PSK \"own\"\n: PSK \"b\"\n", &[1, 2]),
            (SITE, "192.0.2.1 : PSK \"own\"\n", &[1]),
            (SITE, "198.51.100.7 : PSK \"a\"\n192.0.2.1 198.51.100.7 : PSK \"b\"\n", &[2]),
            (SITE, "192.0.2.1 %any : PSK \"a\"\n: PSK \"b\"\n", &[1]),
            (SITE, "192.0.2.1 198.51.100.9 : PSK \"other\"\n198.51.100.9 : PSK \"x\"\n", &[1]),
            (SITE, "198.51.100.9 : PSK \"other\"\n", &[]),
            (CALLED, "192.0.2.1 : PSK \"own\"\n: PSK \"any\"\n", &[1, 2]),
            (CALLED, "192.0.2.1 %any : PSK \"own\"\n: PSK \"any\"\n", &[1]),
            (CALLED, "198.51.100.9 : PSK \"other\"\n", &[1]),
            (NAMED, "ann@crew.example : PSK \"a\"\nbob@yard.example : PSK \"b\"\n", &[1]),
            (NAMED, "@quay.example : PSK \"own\"\nann@crew.example : PSK \"a\"\n", &[1]),
        ] {
            assert_eq!(lines(connection, secrets), wanted, "{connection}{secrets}");
        }
    }
}
