//! A name or time service answers the whole internet.

use crate::check::{Answer, Check, Control, Run};
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
    why: "A service that answers anybody by UDP with more than it was asked sends its answers to whoever the request \
          claims to be from. It takes part in attacks on others, fills the own line, and tells strangers about the \
          inside.",
    fix: "Answer the inside only: by address in the service's own configuration, and by the filter from outside.",
    judged: "Fails for each service over UDP whose answers are larger than its requests, or which looks up names, \
             and that connections from outside come to. A step milder where only named sources do. Passes where none \
             does. Undetermined where a rule that is not modelled decides. An interface whose addresses are private \
             is the outside only where the estate file says so.",
    references: &["RFC 5358", "RFC 8633, 5.4", "US-CERT TA14-017A"],
    controls: &[Control::grundschutz("APP.3.6.A6")],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_exposed(estate, |_, service| reflects(service), |one| one.judge(CHECK.rating()))
}

/// Whether a service answers forged requests with more, and no other check tells that it is reached.
fn reflects(service: &Service) -> bool {
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
