//! A database is reachable from the Internet.

use crate::check::{Answer, Check, Need, Run};
use crate::exposure::each_exposed;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::services::PortKind;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/internet-facing-database",
    area: Area::Exposure,
    title: "Internet-facing database",
    severity: Severity::High,
    why: "A database should be reachable by its application only. On the Internet its login is attacked continuously, or \
          none is required, and all data is lost at once.",
    fix: "Bind it to the loopback address or to the internal address that its application uses, and block it from the \
          Internet.",
    judged: "Fails for each such service that connections from the Internet reach through every rule, forward and device on \
             the path; one level lower for named sources. Passes where none does. Undetermined where a condition not \
             analysed decides. An interface with private addresses faces the Internet only where the estate file says so.",
    references: &["NIST SP 800-41 Rev. 1, 4.1"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_exposed(estate, |_, service| service.kind() == PortKind::Database, |one| one.judge(CHECK.rating()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing;

    #[test]
    fn cases() {
        testing::kind(&CHECK, "tcp", 5432, "high", "medium");
        testing::kind(&CHECK, "udp", 11211, "high", "medium");
    }
}
