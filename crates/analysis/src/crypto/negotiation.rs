//! Algorithms that two ends of an IPsec connection agree on.

use crate::crypto::algorithms::{Algorithm, lookup};
use trevlin_model::Origin;
use trevlin_model::offer::{AlgorithmRole, Offer, OfferPart};

/// One algorithm of a suite, and its line.
#[derive(Debug, Clone, Copy)]
pub struct Named {
    /// The algorithm.
    pub algorithm: &'static Algorithm,
    /// The line that offers it.
    pub origin: Origin,
}

/// The algorithms of one suite.
pub type Suite = Vec<Named>;

/// Kinds of algorithms that both ends have to have in common; the key exchange last.
pub const ROLES: [AlgorithmRole; 4] =
    [AlgorithmRole::Encryption, AlgorithmRole::Integrity, AlgorithmRole::Prf, AlgorithmRole::KeyExchange];

/// The suites of the offers of one part, in order of preference; `None` where a name is in no table.
#[must_use]
pub fn suites<'a>(offers: impl Iterator<Item = &'a Offer>) -> Option<Vec<Suite>> {
    let mut all = Vec::new();
    for offer in offers {
        let mut found: Vec<(usize, Suite)> = Vec::new();
        for one in &offer.algorithms {
            let named = Named { algorithm: lookup(offer.spelling, one.role, &one.name)?, origin: one.origin };
            match found.iter_mut().find(|(suite, _)| *suite == one.suite) {
                Some((_, suite)) => suite.push(named),
                None => found.push((one.suite, vec![named])),
            }
        }
        all.extend(found.into_iter().map(|(_, suite)| suite));
    }
    Some(all)
}

/// Whether both suites share a choice of each of these kinds. A kind that only one of them names is ignored: omitted kinds follow from the
/// rest, or are filled in.
#[must_use]
pub fn in_common(a: &Suite, b: &Suite, roles: &[AlgorithmRole]) -> bool {
    let of = |all: &Suite, role: AlgorithmRole| -> Vec<String> {
        let own = all.iter().filter(|one| one.algorithm.role() == role);
        own.map(|one| one.algorithm.name.clone()).collect()
    };
    // Where no function that derives keys is named it is made from the digest (swanctl.conf(5), proposals; Libreswan has no other).
    let prf = |all: &Suite| match of(all, AlgorithmRole::Prf) {
        named if named.is_empty() => {
            of(all, AlgorithmRole::Integrity).into_iter().map(|name| format!("PRF-{name}")).collect()
        }
        named => named,
    };
    roles.iter().all(|role| {
        let (ours, theirs) = match role {
            AlgorithmRole::Prf => (prf(a), prf(b)),
            role => (of(a, *role), of(b, *role)),
        };
        ours.is_empty() || theirs.is_empty() || ours.iter().any(|name| theirs.contains(name))
    })
}

/// The first suite of the end that responds with one of the other end that fits it.
fn first_fitting<'s>(
    responds: &'s [Suite],
    initiates: &'s [Suite],
    fits: impl Fn(&Suite, &Suite) -> bool,
) -> Option<(&'s Suite, &'s Suite)> {
    responds.iter().find_map(|own| Some((own, initiates.iter().find(|other| fits(own, other))?)))
}

/// What an end that responds chooses: its first suite that the other end offers as well, and of each kind its first algorithm that the other
/// suite has (RFC 7296, 2.7; charon prefers its own order). Each algorithm comes with the lines of both ends.
fn chosen(responds: &[Suite], initiates: &[Suite]) -> Option<Vec<(&'static Algorithm, [Origin; 2])>> {
    let (own, other) = first_fitting(responds, initiates, |own, other| in_common(own, other, &ROLES))?;
    let mut found = Vec::new();
    for role in ROLES {
        let of_role = |one: &&Named| one.algorithm.role() == role;
        let both = own.iter().filter(of_role).find_map(|one| {
            let same = other.iter().find(|other| other.algorithm.name == one.algorithm.name)?;
            Some((one.algorithm, [one.origin, same.origin]))
        });
        found.extend(both);
    }
    Some(found)
}

/// Whether two ends agree on keys for data without a key exchange of their own, whichever of them begins, with the lines of both: the first
/// suite of the end that responds that the other has as well names no group (RFC 7296, 1.3.1). A suite with a group and one without do not
/// match.
#[must_use]
pub fn agreed_without_group<'a>(
    a: impl Iterator<Item = &'a Offer>,
    b: impl Iterator<Item = &'a Offer>,
) -> Option<[Origin; 2]> {
    let (ours, theirs) = (suites(a)?, suites(b)?);
    let has_group =
        |suite: &Suite| suite.iter().any(|one| one.algorithm.role() == AlgorithmRole::KeyExchange);
    let without = |responds: &[Suite], initiates: &[Suite]| -> Option<[Origin; 2]> {
        let (own, other) = first_fitting(responds, initiates, |own, other| {
            has_group(own) == has_group(other) && in_common(own, other, &ROLES)
        })?;
        (!has_group(own)).then_some([own.first()?.origin, other.first()?.origin])
    };
    without(&theirs, &ours)?;
    without(&ours, &theirs)
}

/// The algorithms that two ends agree on whichever of them begins, with the lines of both.
#[must_use]
pub fn agreed(a: &[Offer], b: &[Offer], part: OfferPart) -> Vec<(&'static Algorithm, [Origin; 2])> {
    let of = |offers: &'_ [Offer]| suites(offers.iter().filter(|offer| offer.part == part));
    let (Some(ours), Some(theirs)) = (of(a), of(b)) else { return Vec::new() };
    let (Some(first), Some(second)) = (chosen(&ours, &theirs), chosen(&theirs, &ours)) else {
        return Vec::new();
    };
    first.into_iter().filter(|(one, _)| second.iter().any(|(other, _)| other.name == one.name)).collect()
}
