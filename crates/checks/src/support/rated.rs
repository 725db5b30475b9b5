//! Ratings by whence something is reached.

use crate::rating::Rating;
use trevlin_analysis::whence::Whence;
use trevlin_estate::area::Severity;
use trevlin_estate::assemble::Estate;

/// A rating by whence a login is reached: critical for anybody outside, a step milder from inside alone.
pub(crate) fn rated_from(rating: Rating, whence: &Whence<'_>, estate: &Estate) -> Rating {
    let Some(from) = whence.phrase(estate) else { return rating };
    match whence {
        Whence::Everybody(_) => rating.at(Severity::Critical, from),
        Whence::Inside => rating.lowered(from),
        _ => rating.because(from),
    }
}
