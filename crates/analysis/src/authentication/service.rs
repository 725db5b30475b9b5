//! Factors of a PAM service, with the RADIUS server that a module of it uses.

use crate::authentication::factors::Factors;
use crate::authentication::pam;
use crate::authentication::radius::of_radius;
use trevlin_estate::assemble::Estate;
use trevlin_model::Origin;
use trevlin_model::radius::RadiusAsker;

/// Factors of the weakest path through the `auth` stack of a service; none where no path grants access.
#[must_use]
pub fn of_service(estate: &Estate, device: usize, service: &str, asked_at: Origin) -> Option<Factors> {
    let of_radius = |origin| of_radius(estate, device, RadiusAsker::Pam, origin);
    pam::of_stack(estate, device, service, asked_at, &of_radius)
}
