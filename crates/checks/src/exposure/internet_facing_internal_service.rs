//! A service for internal use is reachable from the Internet, and no other check is about its kind.

use crate::check::{Answer, Check, Need, Run};
use crate::exposure::each_exposed;
use crate::exposure::internet_facing_plaintext::is_plain;
use crate::exposure::internet_facing_reflector::reflects;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::services::{PortKind, Service, What};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/internet-facing-internal-service",
    area: Area::Exposure,
    title: "Internet-facing internal service",
    severity: Severity::Medium,
    why: "Directories, printers, monitoring agents and message brokers are made for trusted networks: many have no login, and \
          their faults are rarely patched. A program on an unregistered port is often a test or a tool of an administrator.",
    fix: "Bind the service to internal addresses or to the loopback, or limit its sources in the filter. Provide remote use \
          through a VPN.",
    judged: "Fails for each directory, authentication, printing, monitoring, message or voice service, and for each program \
             on a port without a registered service, that connections from the Internet reach; high for directories and \
             authentication. Services of other kinds have checks of their own. One level lower for named sources. Passes \
             where none is reachable. Undetermined where a condition not analysed decides.",
    references: &["NIST SP 800-41 Rev. 1, 5.2", "CIS Controls 8, 4.8"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_exposed(
        estate,
        |device, service| {
            is_internal(service) && !is_plain(&estate.devices[device], service) && !reflects(service)
        },
        |one| {
            one.judge(match one.service.kind() {
                PortKind::Login => CHECK.rated_at(Severity::High, "it holds or checks logins"),
                _ => CHECK.rating(),
            })
        },
    )
}

/// Whether a service is of a kind that only internal networks need, and that no other check is about.
fn is_internal(service: &Service) -> bool {
    match service.kind() {
        // RADIUS has a check of its own.
        PortKind::Login => service.what != What::Radius,
        PortKind::Printing | PortKind::Monitoring | PortKind::Messages | PortKind::Voice => true,
        PortKind::Other => service.what == What::Socket,
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing;

    #[test]
    fn cases() {
        testing::kind(&CHECK, "tcp", 389, "high", "medium");
        testing::kind(&CHECK, "tcp", 9100, "medium", "low");
        testing::kind(&CHECK, "tcp", 8095, "medium", "low");
        // A public site is none.
        let site = testing::Small {
            rules: "-A INPUT -p tcp -j ACCEPT\n",
            gate: "tcp LISTEN 0 9 0.0.0.0:443 0.0.0.0:*\n",
            ..testing::Small::default()
        };
        assert!(testing::on(&CHECK, &site).is_empty());
    }
}
