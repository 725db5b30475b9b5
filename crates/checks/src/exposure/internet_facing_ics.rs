//! A protocol for machines answers the outside.

use crate::check::{Answer, Check, Control, Run};
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
    why: "Protocols for machines and buildings take orders from whoever sends them: most know no login at all. What \
          moves then is a bridge, a pump or a door.",
    fix: "Take it off the outside today. Maintenance comes through a tunnel with two factors, to one machine, for \
          the time it takes.",
    judged: "Fails for each such service that connections from outside come to, by rule, forward and every device on \
             the way; a step milder where only named sources do. Passes where none does. Undetermined where a rule \
             that is not modelled decides. An interface whose addresses are private is the outside only where the \
             estate file says so.",
    references: &["IEC 62443-3-3, SR 5.1", "NIST SP 800-82 Rev. 3, 5.2"],
    controls: &[Control::grundschutz("IND.1.A6")],
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
