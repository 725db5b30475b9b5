//! File sharing is reachable from the Internet.

use crate::check::{Answer, Check, Need, Run};
use crate::exposure::each_exposed;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::services::PortKind;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/internet-facing-file-sharing",
    area: Area::Exposure,
    title: "Internet-facing file sharing",
    severity: Severity::High,
    why: "Files are the main target of theft and ransomware. File-sharing protocols are designed for internal networks: \
          their logins are attacked continuously, and worms have spread through them within hours.",
    fix: "Block it from the Internet. Give remote users access through a VPN, or use a service designed for Internet access.",
    judged: "Fails for each such service that connections from the Internet reach through every rule, forward and device on \
             the path; one level lower for named sources. Passes where none does. Undetermined where a condition not \
             analysed decides. An interface with private addresses faces the Internet only where the estate file says so.",
    references: &["CISA AA20-302A"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_exposed(estate, |_, service| service.kind() == PortKind::Files, |one| one.judge(CHECK.rating()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing;

    #[test]
    fn cases() {
        testing::kind(&CHECK, "tcp", 445, "high", "medium");
        testing::kind(&CHECK, "udp", 69, "high", "medium");
    }
}
