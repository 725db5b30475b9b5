//! A kind of client is admitted that is not in use.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::client_rules::not_seen;
use crate::support::name_of;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::policy::ClientKind;
use trevlin_model::{Origin, Setting, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/unused-client-kind",
    area: Area::Tunnels,
    title: "Client kind admitted without need",
    severity: Severity::Low,
    why: "Every kind of client that a service admits is software to maintain and a login path. A browser portal accepts a stolen \
          password from any machine, where the managed client would be required otherwise.",
    fix: "Admit the kinds of clients that are in use, and switch off all others. Begin with browser access.",
    judged: "Judged for services whose sheet lists the kinds of clients. Fails for those that are stated as not in use. \
             Undetermined where the sheet does not state whether a kind is used.",
    references: &["NIST SP 800-46 Rev. 2, 3.1"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.running().filter(|one| one.accepts_clients()) {
            let Some(policy) = &tunnel.policy else { continue };
            if !policy.client_kinds.is_empty() {
                answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(tunnel, &policy.client_kinds)));
            }
        }
    }
    answers
}

fn judge(tunnel: &Tunnel, kinds: &[ClientKind]) -> Verdict {
    let used = |one: &ClientKind| one.used.as_ref().and_then(Setting::value).copied();
    let unused: Vec<&ClientKind> = kinds.iter().filter(|one| used(one) == Some(false)).collect();
    let names = |all: &[&ClientKind]| all.iter().map(|one| one.name.as_str()).collect::<Vec<_>>().join(", ");
    if !unused.is_empty() {
        return Verdict::Fail(Fail {
            rating: CHECK.rated("the sheet states that it is not used"),
            title: format!("{} admits clients that are not in use: {}", name_of(tunnel), names(&unused))
                .into(),
            detail: format!("{} of {} kinds of clients are not in use.", unused.len(), kinds.len()).into(),
            evidence: unused.iter().map(|one| one.origin).collect::<Vec<Origin>>(),
        });
    }
    let open: Vec<&ClientKind> = kinds.iter().filter(|one| used(one).is_none()).collect();
    if open.is_empty() {
        return Verdict::pass_by(kinds.iter().map(|one| one.origin), tunnel.origin);
    }
    let about = format!("which of these clients of {} are in use: {}", name_of(tunnel), names(&open));
    match tunnel.missing_configuration() {
        Some(missing) => Verdict::ask_reference(missing, &about),
        None => not_seen(tunnel, &about),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (kinds, wanted) in [
            (
                "[{ name = \"browser\", used = \"no\" }, { name = \"laptop\", used = true }]",
                &["fail low d s.toml:7"][..],
            ),
            ("[{ name = \"laptop\", used = true }]", &["pass d"]),
            ("[\"laptop\", \"browser\"]", &["ask d"]),
            ("[]", &[]),
        ] {
            let text = format!(
                "sheet = \"trevlin-sheet/2\"\n[[tunnels]]\nname = \"vpn\"\nfamily = \"tls\"\nrole = \
                 \"server\"\n[tunnels.policy]\nclient-kinds = {kinds}\n"
            );
            run(&CHECK, &[(kinds, &[("d/s.toml", &text)], wanted)]);
        }
    }
}
