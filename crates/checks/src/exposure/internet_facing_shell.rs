//! A remote shell answers the outside.

use crate::check::{Answer, Check, Control, Run};
use crate::exposure::each_exposed;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::protection::protection_evidence;
use trevlin_analysis::services::PortKind;
use trevlin_analysis::verdicts::LoginFactor;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::FactorKind;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/internet-facing-shell",
    area: Area::Exposure,
    title: "Internet-facing remote shell",
    severity: Severity::Medium,
    why: "A command line is the shortest way to everything. In the open it is tried with guessed passwords all day, \
          and a fault in it is used within hours of becoming known.",
    fix: "Reach it through a tunnel. Where it has to stay open, let named sources in only, with keys and no \
          passwords; switch off shells that send everything in plain text.",
    judged: "Fails for each remote shell that connections from outside come to: graver where it sends in plain text \
             or lets in by a password alone, milder where a key or two factors are asked for. A step milder where \
             only named sources do. Passes where none does. Undetermined where a rule that is not modelled decides. \
             An interface whose addresses are private is the outside only where the estate file says so.",
    references: &["NIST SP 800-46 Rev. 2, 3.3", "RFC 4253"],
    controls: &[Control::grundschutz("SYS.1.3.A8")],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_exposed(
        estate,
        |_, service| service.kind() == PortKind::Shell,
        |one| {
            let protection = protection_evidence(estate, one.device, one.service);
            let plain = one.service.port_known().is_some_and(|known| known.obsolete);
            let (severity, why) = match &protection.factors {
                _ if plain => (Severity::High, "everything is sent in plain text"),
                Some(factors) if factors.is_empty() => (Severity::Critical, "nothing is asked for"),
                Some(factors) if factors.len() > 1 => (Severity::Low, "two factors are asked for"),
                Some(factors) if factors[0] == LoginFactor::Kind(FactorKind::Knowledge) => {
                    (Severity::High, "a password alone lets in")
                }
                Some(_) => (Severity::Low, "what lets in cannot be guessed"),
                None => (CHECK.severity, "what lets in is in no export"),
            };
            one.judge(CHECK.rated_at(severity, why))
        },
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing;

    #[test]
    fn cases() {
        testing::kind(&CHECK, "tcp", 22, "medium", "low");
        testing::kind(&CHECK, "tcp", 23, "high", "medium");
        // What it asks for weighs.
        let base =
            testing::Small { rules: "-A INPUT -p tcp --dport 22 -j ACCEPT\n", ..testing::Small::default() };
        for (config, severity) in [
            ("PasswordAuthentication no\nKbdInteractiveAuthentication no\n", "low"),
            ("PasswordAuthentication yes\nUsePAM no\n", "high"),
        ] {
            let more = [("gate/etc/ssh/sshd_config", config)];
            let found = testing::on(&CHECK, &testing::Small { more: &more, ..base });
            assert!(found[0].starts_with(&format!("fail {severity} gate")), "{config}: {found:?}");
        }
    }
}
