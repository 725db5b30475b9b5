//! An industrial protocol is reachable from the Internet.

use crate::check::{Answer, Check, Need, Run};
use crate::exposure::each_exposed;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::services::PortKind;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/internet-facing-ics",
    area: Area::Exposure,
    title: "Internet-facing industrial protocol",
    severity: Severity::Critical,
    why: "Industrial and building-automation protocols execute commands from any sender; most have no authentication. An \
          attacker can move physical equipment such as bridges, pumps or doors.",
    fix: "Remove it from the Internet immediately. Provide maintenance access through a VPN with two factors, to one \
          machine, for a limited time.",
    judged: "Fails for each such service that connections from the Internet reach through every rule, forward and device on \
             the path; one level lower for named sources. Passes where none does. Undetermined where a condition not \
             analysed decides. An interface with private addresses faces the Internet only where the estate file says so.",
    references: &["IEC 62443-3-3, SR 5.1", "NIST SP 800-82 Rev. 3, 5.2"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_exposed(estate, |_, service| service.kind() == PortKind::Industrial, |one| one.judge(CHECK.rating()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing;

    #[test]
    fn cases() {
        testing::kind(&CHECK, "tcp", 502, "critical", "high");
        testing::kind(&CHECK, "udp", 47808, "critical", "high");
    }
}
