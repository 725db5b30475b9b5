//! A name or time service answers the whole internet.

use crate::check::{Answer, Check, Need, Run};
use crate::exposure::each_exposed;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::services::{PortKind, Service};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/internet-facing-reflector",
    area: Area::Exposure,
    title: "Internet-facing DNS or NTP reflector",
    severity: Severity::Medium,
    why: "A UDP service that answers any source with large responses can be abused to attack third parties with forged \
          source addresses. It also saturates the organisation's own line and reveals internal information.",
    fix: "Answer internal networks only, by the access list of the service and by the packet filter.",
    judged: "Fails for each UDP service with amplifying responses, and each DNS resolver, that connections from the Internet \
             reach. One level lower for named sources. Passes where none is reachable. Undetermined where a condition not \
             analysed decides. An interface with private addresses faces the Internet only where the estate file says so.",
    references: &["RFC 5358", "RFC 8633, 5.4", "US-CERT TA14-017A"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_exposed(estate, |_, service| reflects(service), |one| one.judge(CHECK.rating()))
}

/// Whether a service amplifies forged requests, and its exposure is not covered by another check.
pub(super) fn reflects(service: &Service) -> bool {
    let amplifies = service.port_known().is_some_and(|known| known.amplifies);
    let kind =
        matches!(service.kind(), PortKind::Names | PortKind::Time | PortKind::Other | PortKind::Mapping);
    amplifies && kind
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing;

    #[test]
    fn cases() {
        testing::kind(&CHECK, "udp", 53, "medium", "low");
        testing::kind(&CHECK, "udp", 123, "medium", "low");
    }
}
