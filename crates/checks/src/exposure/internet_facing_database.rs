//! A database answers the outside.

use crate::check::{Answer, Check, Control, Run};
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
    why: "A database belongs behind the program that uses it. In the open its login is guessed, or there is none, \
          and everything in it goes at once.",
    fix: "Let it listen on the loopback address or on the inside address that its program uses, and drop it from \
          outside.",
    judged: "Fails for each such service that connections from outside come to, by rule, forward and every device on \
             the way; a step milder where only named sources do. Passes where none does. Undetermined where a rule \
             that is not modelled decides. An interface whose addresses are private is the outside only where the \
             estate file says so.",
    references: &["NIST SP 800-41 Rev. 1, 4.1"],
    controls: &[Control::grundschutz("APP.4.3.A3")],
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
