//! A remote desktop answers the outside.

use crate::check::{Answer, Check, Control, Run};
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
    why: "A remote desktop that anybody reaches is tried with guessed and stolen passwords all day. One fault in it \
          before the login has led to whole networks being encrypted.",
    fix: "Close it from outside and let people reach their screens through a tunnel with two factors, or through a \
          gateway that asks for them.",
    judged: "Fails for each such service that connections from outside come to, by rule, forward and every device on \
             the way; a step milder where only named sources do. Passes where none does. Undetermined where a rule \
             that is not modelled decides. An interface whose addresses are private is the outside only where the \
             estate file says so.",
    references: &["NIST SP 800-46 Rev. 2, 3.3", "CISA AA23-061A"],
    controls: &[Control::grundschutz("SYS.2.1.A42")],
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
