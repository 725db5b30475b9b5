//! Readers of name servers.

pub(crate) mod named;
pub(crate) mod unbound;

use trevlin_model::served::{AuthRequirement, PartKind, Remark, ServiceResource, Sources};
use trevlin_model::{Origin, Setting};

/// A resource for recursive DNS queries, limited to these sources.
pub(crate) fn recursion(sources: Sources, origin: Origin) -> ServiceResource {
    let mut part =
        ServiceResource::new(PartKind::Whole, "recursion for clients", origin).labelled("recursion");
    part.sources = sources;
    part.login = Setting::Stated { value: AuthRequirement::Nothing, origin };
    part.remarks.push((Remark::Recursion, origin));
    part
}
