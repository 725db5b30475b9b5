//! Ratings by whence something is reached.

use crate::check::Verdict;
use crate::rating::Rating;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::reachability_from::Reachability;
use trevlin_analysis::services::{Encrypted, KnownPort, PortKind};
use trevlin_estate::area::Severity;
use trevlin_estate::assemble::Estate;
use trevlin_model::Tunnel;

/// A rating by reachability of a login: critical from any Internet address, one level lower from internal networks only.
pub(crate) fn rated_from(rating: Rating, reachability_from: &Reachability<'_>, estate: &Estate) -> Rating {
    let Some(from) = reachability_from.phrase(estate) else { return rating };
    match reachability_from {
        Reachability::Everybody(_) => rating.at(Severity::Critical, from),
        _ if reachability_from.is_inside() => rating.lowered(from),
        _ => rating.because(from),
    }
}

/// Severity of a service that any Internet address reaches, by its kind and the usual service of its port; `public` says that pages
/// are those of a public web site.
pub(crate) fn severity_of_kind(kind: PortKind, known: Option<&KnownPort>, public: bool) -> Severity {
    match kind {
        PortKind::Management
        | PortKind::Shell
        | PortKind::Desktop
        | PortKind::Files
        | PortKind::Database
        | PortKind::Industrial
        | PortKind::Mapping
        | PortKind::Login => Severity::High,
        PortKind::Tunnel if known.is_some_and(|known| matches!(known.number, 1701 | 1723)) => Severity::High,
        _ if known.is_some_and(|known| known.obsolete) => Severity::High,
        PortKind::Tunnel | PortKind::Mail => Severity::Info,
        PortKind::Web if public => Severity::Info,
        PortKind::Web if known.is_some_and(|known| known.encrypted == Encrypted::Yes) => Severity::Low,
        PortKind::Web | PortKind::Voice | PortKind::Printing | PortKind::Monitoring | PortKind::Messages => {
            Severity::Medium
        }
        PortKind::Names | PortKind::Time | PortKind::Addresses | PortKind::Other => Severity::Low,
    }
}

/// Adds the reachability of the tunnel to a fault, which affects its severity.
pub(crate) fn rated_by_tunnel(estate: &Analyses, at: usize, tunnel: &Tunnel, verdict: Verdict) -> Verdict {
    let Verdict::Fail(mut fail) = verdict else { return verdict };
    let ports = tunnel.listeners.iter().filter_map(|one| Some((one.protocol, one.port.value().copied()?)));
    let rank = |reachability_from: &Reachability<'_>| match reachability_from {
        Reachability::Everybody(_) => 0,
        Reachability::Forwarded(..) => 1,
        Reachability::Some(_) | Reachability::Named(..) | Reachability::Unsure(..) => 2,
        Reachability::NotKnown => 3,
        Reachability::Inside | Reachability::Listed(_) => 4,
    };
    let all = ports.map(|(protocol, port)| Reachability::of(estate, at, protocol, port));
    let Some(reachability_from) = all.min_by_key(rank) else { return Verdict::Fail(fail) };
    if let Some(from) = reachability_from.phrase(estate) {
        fail.rating = match reachability_from {
            Reachability::Inside | Reachability::Listed(_) => fail.rating.lowered(from),
            _ => fail.rating.because(from),
        };
    }
    fail.evidence.extend(reachability_from.evidence());
    Verdict::Fail(fail)
}
