//! A remote desktop is reachable from the Internet.

use crate::check::{Answer, Check, Need, Run};
use crate::exposure::each_exposed;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::services::PortKind;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/internet-facing-remote-desktop",
    area: Area::Exposure,
    title: "Internet-facing remote desktop",
    severity: Severity::High,
    why: "Internet-facing remote desktops are attacked continuously with guessed and stolen passwords. Faults before the \
          login have led to the encryption of whole networks.",
    fix: "Block it from the Internet. Provide access through a VPN, or a gateway, that requires two factors.",
    judged: "Fails for each such service that connections from the Internet reach through every rule, forward and device on \
             the path; one level lower for named sources. Passes where none does. Undetermined where a condition not \
             analysed decides. An interface with private addresses faces the Internet only where the estate file says so.",
    references: &["NIST SP 800-46 Rev. 2, 3.3", "CISA AA23-061A"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_exposed(estate, |_, service| service.kind() == PortKind::Desktop, |one| one.judge(CHECK.rating()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing;

    #[test]
    fn cases() {
        testing::kind(&CHECK, "tcp", 3389, "high", "medium");
        testing::kind(&CHECK, "tcp", 5900, "high", "medium");
    }
}
