//! A legacy VPN is reachable from the Internet.

use crate::check::{Answer, Check, Need, Run};
use crate::exposure::each_exposed;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::services::{PortKind, Service, What};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::TunnelFamily;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/internet-facing-vpn-legacy",
    area: Area::Exposure,
    title: "Internet-facing legacy VPN",
    severity: Severity::High,
    why: "A broken protocol protects nothing, however strong the password. An attacker on the path obtains the traffic and \
          soon the password.",
    fix: "Disable it and close its ports. Move clients to a maintained VPN protocol.",
    judged: "Fails for each PPTP server that connections from the Internet reach. One level lower for named sources. Passes \
             where none is reachable. Undetermined where a condition not analysed decides. An interface with private \
             addresses faces the Internet only where the estate file says so.",
    references: &["RFC 2637", "NIST SP 800-77 Rev. 1, 8"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_exposed(
        estate,
        |device, service| is_obsolete(estate, device, service),
        |one| one.judge(CHECK.rating()),
    )
}

/// By its configuration, otherwise by its port. Whether L2TP is protected by IPsec is decided by a check of its own.
fn is_obsolete(estate: &Analyses, device: usize, service: &Service) -> bool {
    match service.what {
        What::Tunnel(number) => estate.devices[device].facts.tunnels[number].family == TunnelFamily::Pptp,
        What::Socket => {
            service.kind() == PortKind::Tunnel
                && service.port != 1701
                && service.port_known().is_some_and(|known| known.obsolete)
        }
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing;

    #[test]
    fn cases() {
        testing::kind(&CHECK, "tcp", 1723, "high", "medium");
    }
}
