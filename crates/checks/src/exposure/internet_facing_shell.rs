//! A remote shell is reachable from the Internet.

use crate::check::{Answer, Check, Need, Run};
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
    why: "A remote shell gives direct control of the host. On the Internet it is attacked continuously with guessed \
          passwords, and new faults are exploited within hours.",
    fix: "Provide access through a VPN. Where it must stay open, permit named sources only, require keys and disable \
          passwords. Disable clear-text shells.",
    judged: "Fails for each remote shell that connections from the Internet reach; higher where it sends clear text or \
             accepts a password alone, lower where a key or two factors are required. One level lower for named sources. \
             Passes where none is reachable. Undetermined where a condition not analysed decides. An interface with private \
             addresses faces the Internet only where the estate file says so.",
    references: &["NIST SP 800-46 Rev. 2, 3.3", "RFC 4253"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
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
                _ if plain => (Severity::High, "all traffic is sent in clear text"),
                Some(factors) if factors.is_empty() => (Severity::Critical, "no authentication is required"),
                Some(factors) if factors.len() > 1 => (Severity::Low, "two factors are required"),
                Some(factors) if factors[0] == LoginFactor::Kind(FactorKind::Knowledge) => {
                    (Severity::High, "a password alone is sufficient")
                }
                Some(_) => (Severity::Low, "the required login cannot be guessed"),
                None => (CHECK.severity, "the required login is not in the exports"),
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
        // Its required factors affect the severity.
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
