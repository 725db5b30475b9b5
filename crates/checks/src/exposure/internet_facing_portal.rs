//! A user page is reachable from the Internet.

use crate::check::{Answer, Check, Need, Run};
use crate::exposure::each_exposed;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::services::{Encrypted, PortKind, Service, only_redirects, sites_at};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{AuthRequirement, Remark, ServiceResource};
use trevlin_model::{Device, DeviceKind};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/internet-facing-portal",
    area: Area::Exposure,
    title: "Internet-facing login portal",
    severity: Severity::Medium,
    why: "Scanners find a login page within minutes, and its password form then protects everything behind it. Appliance \
          portals regularly have faults that permit access without a password.",
    fix: "Give users access through a VPN. Place a page that must be public on a separate server without access to internal \
          networks, and require two factors.",
    judged: "Fails for each web page that connections from the Internet reach on a firewall, router or storage appliance, or \
             on a server behind a port forward. A server with its own Internet interface is assumed to be public by design. \
             One level lower for named sources. Passes where none is reachable. Undetermined where a condition not analysed \
             decides. Passes for sites whose files show that no page requires a login. An interface with private addresses faces the Internet only where the estate file says so.",
    references: &["NIST SP 800-46 Rev. 2, 3.2", "CISA BOD 23-02"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_exposed(
        estate,
        |device, service| is_portal(estate, device, service),
        |one| one.judge(CHECK.rating()),
    )
}

/// A page of an appliance, or of a server that is exposed only through a forward.
fn is_portal(estate: &Analyses, device: usize, service: &Service) -> bool {
    let encrypted = service.port_known().is_none_or(|known| known.encrypted != Encrypted::No);
    let serves_the_public = matches!(estate.devices[device].kind, DeviceKind::Server)
        && estate.outside(device).iter().any(|one| one.certain);
    let public = has_no_login(&estate.devices[device], service);
    service.kind() == PortKind::Web && encrypted && !serves_the_public && !public
}

/// Whether the files of a site show that no page requires a login: it is a public site and no portal.
fn has_no_login(device: &Device, service: &Service) -> bool {
    let sites = sites_at(device, service);
    let open = |part: &ServiceResource| {
        part.login.value() == Some(&AuthRequirement::Nothing) && part.remark(Remark::Administration).is_none()
    };
    let mut parts = sites.iter().flat_map(|site| &site.parts).peekable();
    only_redirects(device, service) || (parts.peek().is_some() && parts.all(open))
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
