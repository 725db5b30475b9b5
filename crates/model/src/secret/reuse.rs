//! Secrets that are used again.

use super::{SecretKind, SecretRecord};
use std::sync::Arc;
use zeroize::Zeroizing;

/// Shortest rest by which two secrets count as nearly equal; shorter ones have it in common by chance.
const NEAR_CHARACTERS: usize = 5;

/// Secrets that are equal, or nearly.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReuseGroup {
    /// Which of those given, in their order.
    pub members: Vec<usize>,
    /// Whether all are equal; otherwise some differ in case or trailing digits.
    pub exact: bool,
}

/// Groups secrets that are equal, or that people made from one another by another case or other digits at the end.
/// Groups of one are left out; groups and members keep the order of `held`.
#[must_use]
pub fn reuse_groups(held: &[Arc<SecretRecord>]) -> Vec<ReuseGroup> {
    let mut by_value: Vec<(Zeroizing<String>, usize)> = held
        .iter()
        .enumerate()
        .filter(|(_, one)| !one.secret.is_empty())
        .map(|(index, one)| (common(one), index))
        .collect();
    by_value.sort_by(|a, b| (a.0.as_str(), a.1).cmp(&(b.0.as_str(), b.1)));
    let exact =
        |members: &[usize]| members.iter().all(|at| held[*at].secret.same_as(&held[members[0]].secret));
    let groups = by_value.chunk_by(|a, b| a.0.as_str() == b.0.as_str()).filter(|group| group.len() > 1);
    let members = groups.map(|group| group.iter().map(|(_, at)| *at).collect::<Vec<_>>());
    let mut groups: Vec<_> = members.map(|members| ReuseGroup { exact: exact(&members), members }).collect();
    groups.sort_by(|a, b| a.members.cmp(&b.members));
    groups
}

/// The common part of nearly equal secrets. Keys and hashes are generated, so only equal ones count.
fn common(one: &SecretRecord) -> Zeroizing<String> {
    common_of(one.kind, one.secret.expose())
}

pub(super) fn common_of(kind: SecretKind, value: &str) -> Zeroizing<String> {
    if !kind.may_be_chosen_by_people() || value.len() > 64 {
        return Zeroizing::new(value.to_owned());
    }
    let lower = Zeroizing::new(value.to_lowercase());
    let rest = lower.trim_end_matches(|letter: char| letter.is_ascii_digit());
    if rest.chars().count() >= NEAR_CHARACTERS { Zeroizing::new(rest.to_owned()) } else { lower }
}

/// A name for the group with this number that reveals nothing about its secret: A, B, … Z, AA, AB, …
#[must_use]
pub fn group_letter(mut number: usize) -> String {
    let mut letters = Vec::new();
    loop {
        letters.push(b'A' + (number % 26) as u8);
        if number < 26 {
            break;
        }
        number = number / 26 - 1;
    }
    letters.iter().rev().map(|letter| char::from(*letter)).collect()
}
