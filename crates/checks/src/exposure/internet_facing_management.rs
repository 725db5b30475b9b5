//! A management service is reachable from the Internet.

use crate::check::{Answer, Check, Need, Run};
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
    why: "Control of the management interface is control of the device, its rules and its logs. Such interfaces are designed \
          for trusted networks, receive fixes late, and are a first target of scanners.",
    fix: "Bind it to the internal address only, block it from the Internet, and reach it through a VPN with two factors.",
    judged: "Fails for each such service that connections from the Internet reach through every rule, forward and device on \
             the path; one level lower for named sources. Passes where none does. Undetermined where a condition not \
             analysed decides. An interface with private addresses faces the Internet only where the estate file says so.",
    references: &["NIST SP 800-41 Rev. 1, 4.1", "CISA BOD 23-02"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
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
