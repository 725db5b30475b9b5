//! Ratings by whence something is reached.

use crate::rating::Rating;
use trevlin_analysis::reachability_from::Reachability;
use trevlin_estate::area::Severity;
use trevlin_estate::assemble::Estate;

/// A rating by reachability of a login: critical from any Internet address, one level lower from internal networks only.
pub(crate) fn rated_from(rating: Rating, reachability_from: &Reachability<'_>, estate: &Estate) -> Rating {
    let Some(from) = reachability_from.phrase(estate) else { return rating };
    match reachability_from {
        Reachability::Everybody(_) => rating.at(Severity::Critical, from),
        Reachability::Inside => rating.lowered(from),
        _ => rating.because(from),
    }
}
