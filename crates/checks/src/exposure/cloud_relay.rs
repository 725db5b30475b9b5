//! A device is reached through a relay of a provider.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::cloud::CloudRelay;
use trevlin_model::policy::Demand;
use trevlin_model::{Origin, Setting};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/cloud-relay",
    area: Area::Exposure,
    title: "Access through a provider's relay",
    severity: Severity::Medium,
    why: "The device keeps a connection to the relay, so clients reach it past the packet filter and without a port forward. \
          An attacker with an account at the \
          provider, or with control of the provider, is inside the network.",
    fix: "Switch it off, and provide the access through the VPN. Where it is needed, require a second factor at the provider, \
          limit it to the service in use, and review its accounts regularly.",
    judged: "Judged for relays that a device sheet states and that are not switched off. Fails for each; high where it opens \
             the administration of the device, or where no second factor is required. The services that it opens are \
             requested where the sheet does not state them.",
    references: &["NIST SP 800-46 Rev. 2, 2.1", "NIST SP 800-41 Rev. 1, 4.1"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

/// Name of the administration of a device in sheets.
const ADMINISTRATION: &str = "administration";

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for one in &device.facts.cloud_relays {
            let subject = || Subject::of(SubjectKind::CloudRelay).with(&one.name);
            answers.push(Answer::new(at, subject(), judge(one)));
            if !one.off && one.opens.is_empty() {
                let ask =
                    format!("Please state which services of {} the relay `{}` opens.", device.name, one.name);
                answers.push(Answer::new(at, subject().with("opens"), Verdict::ask(ask, vec![one.origin])));
            }
        }
    }
    answers
}

fn judge(one: &CloudRelay) -> Verdict {
    if one.off {
        return Verdict::pass(one.origin);
    }
    let code = one.one_time_code.as_ref().and_then(Setting::stated);
    let administers = one.opens.iter().any(|name| name.eq_ignore_ascii_case(ADMINISTRATION));
    let (severity, why) = match code {
        _ if administers => (Severity::High, "it opens the administration of the device"),
        Some((Demand::Off | Demand::Optional, _)) => {
            (Severity::High, "a password at the provider is sufficient")
        }
        Some((Demand::Required, _)) => (CHECK.severity, "the provider requires a second factor"),
        None => (CHECK.severity, "the login at the provider is not known"),
    };
    let provider = one.provider.as_deref().map(|name| format!(" of {name}")).unwrap_or_default();
    let opens =
        if one.opens.is_empty() { String::new() } else { format!(" It opens {}.", one.opens.join(", ")) };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("Device is reachable through the relay `{}`{provider}", one.name).into(),
        detail: format!(
            "The device connects to the relay by itself, and its clients come in by that connection.{opens}"
        )
        .into(),
        evidence: [one.origin].into_iter().chain(code.map(|(_, origin): (_, Origin)| origin)).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (lines, wanted) in [
            ("opens = [\"pages\"]", &["fail medium d s.toml:2"][..]),
            (
                "opens = [\"Administration\"]\none-time-code = \"required\"",
                &["fail high d s.toml:2 s.toml:5"],
            ),
            ("opens = [\"pages\"]\none-time-code = \"off\"", &["fail high d s.toml:2 s.toml:5"]),
            ("opens = [\"pages\"]\none-time-code = \"required\"", &["fail medium d s.toml:2 s.toml:5"]),
            ("", &["fail medium d s.toml:2", "ask d"]),
            ("off = true", &["pass d"]),
            ("#opens = [\"pages\"]\noff = true", &["pass d"]),
        ] {
            let text = format!(
                "sheet = \"trevlin-sheet/2\"\n[[cloud-relays]]\nname = \"remote support\"\n{lines}\n"
            );
            run(&CHECK, &[(lines, &[("d/s.toml", &text)], wanted)]);
        }
    }
}
