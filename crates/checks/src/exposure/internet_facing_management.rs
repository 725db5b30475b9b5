//! A service for management answers the outside.

use crate::check::{Answer, Check, Control, Run};
use crate::exposure::each_exposed;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::services::PortKind;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/internet-facing-management",
    area: Area::Exposure,
    title: "Internet-facing management interface",
    severity: Severity::High,
    why: "Whoever holds the management of a device holds the device, its rules and its logs. Such services are \
          written for a trusted network, get fixes late, and are what scanners look for first.",
    fix: "Let them listen on the inside address only, let the filter drop them from outside, and reach them through \
          a tunnel that asks for two factors.",
    judged: "Fails for each such service that connections from outside come to, by rule, forward and every device on \
             the way; a step milder where only named sources do. Passes where none does. Undetermined where a rule \
             that is not modelled decides. An interface whose addresses are private is the outside only where the \
             estate file says so.",
    references: &["NIST SP 800-41 Rev. 1, 4.1", "CISA BOD 23-02"],
    controls: &[Control::grundschutz("NET.3.2.A5"), Control::grundschutz("SYS.1.1.A5")],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_exposed(estate, |_, service| service.kind() == PortKind::Management, |one| one.judge(CHECK.rating()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing;

    #[test]
    fn cases() {
        testing::kind(&CHECK, "udp", 161, "high", "medium");
        testing::kind(&CHECK, "tcp", 7547, "high", "medium");
    }
}
