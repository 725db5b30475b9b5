//! A page meant for users answers the outside.

use crate::check::{Answer, Check, Control, Run};
use crate::exposure::each_exposed;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::services::{Encrypted, PortKind, Service};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::DeviceKind;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/internet-facing-portal",
    area: Area::Exposure,
    title: "Internet-facing login portal",
    severity: Severity::Medium,
    why: "A page for logging in is found by scanners within minutes, and from then on its password field is the door \
          to everything behind it. Pages of appliances carry faults that let strangers in without any password.",
    fix: "Let users reach it through the tunnel. A page that has to be public stands on a server of its own, with \
          nothing behind it, and asks for two factors.",
    judged: "Fails for each web page that connections from outside come to: on a firewall, router or storage \
             appliance, or on a server behind a port forward. A server with an outside interface of its own is taken \
             to be there for it. A step milder where only named sources do. Passes where none does. Undetermined \
             where a rule that is not modelled decides. An interface whose addresses are private is the outside only \
             where the estate file says so.",
    references: &["NIST SP 800-46 Rev. 2, 3.2", "CISA BOD 23-02"],
    controls: &[Control::grundschutz("NET.3.2.A2")],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_exposed(
        estate,
        |device, service| is_portal(estate, device, service),
        |one| one.judge(CHECK.rating()),
    )
}

/// A page of an appliance, or of a server that faces the outside only through a forward.
fn is_portal(estate: &Analyses, device: usize, service: &Service) -> bool {
    let encrypted = service.port_known().is_none_or(|known| known.encrypted != Encrypted::No);
    let serves_the_public = matches!(estate.devices[device].kind, DeviceKind::Server)
        && estate.outside(device).iter().any(|one| one.certain);
    service.kind() == PortKind::Web && encrypted && !serves_the_public
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing;

    #[test]
    fn cases() {
        // The gate stands between networks, the server is behind a forward.
        testing::kind(&CHECK, "tcp", 443, "medium", "low");
    }
}
