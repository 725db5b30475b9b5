//! File sharing answers the outside.

use crate::check::{Answer, Check, Control, Run};
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
    why: "Files are what an intruder comes for, to copy or to encrypt. Protocols for sharing them are made for one \
          building: their logins are guessed, and worms have spread by them within hours.",
    fix: "Close it from outside. Who has to reach files from afar comes through a tunnel, or gets them by a service \
          that is made for it.",
    judged: "Fails for each such service that connections from outside come to, by rule, forward and every device on \
             the way; a step milder where only named sources do. Passes where none does. Undetermined where a rule \
             that is not modelled decides. An interface whose addresses are private is the outside only where the \
             estate file says so.",
    references: &["CISA AA20-302A"],
    controls: &[Control::grundschutz("APP.3.3.A3"), Control::grundschutz("NET.3.2.A2")],
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
