//! Accounts that are not enrolled pass a PAM module for a second factor.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::name_of;
use std::collections::BTreeMap;
use trevlin_analysis::authentication::further_factor;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::pam::{PamFacility, PamLine};
use trevlin_model::policy::Demand;
use trevlin_model::{FactorKind, Origin, Setting, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/second-factor-optional",
    area: Area::Logins,
    title: "Second factor not required of every account",
    severity: Severity::Medium,
    why: "An option that eases the introduction of a second factor exempts every account without one. New accounts, service \
          accounts and users who never enrolled log in with the first factor alone, without notice.",
    fix: "Enrol every account that may log in, remove the option (`nullok`, `nouserok`, `alwaysok`), and test with an account \
          that is not enrolled.",
    judged: "Fails for each module for one-time codes or tokens in an `auth` stack with an option that accepts accounts \
             without one. Passes for such a module without the option. Comments, and modules outside the `auth` stack, are \
             not judged.",
    references: &["pam_google_authenticator(8), nullok", "pam_u2f(8), nouserok", "NIST SP 800-63B, 4.2"],
    needs: &[Need::Accounts, Need::Ssh],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.tunnels.iter().filter(|one| one.accepts_clients()) {
            let rule = tunnel.rule(|policy| &policy.one_time_code).and_then(Setting::stated);
            if let Some((demand, origin)) = rule {
                let verdict = match demand {
                    Demand::Optional => Verdict::Fail(by_rule(tunnel, origin)),
                    Demand::Required => Verdict::pass(origin),
                    // A login with one factor is a finding of its own.
                    Demand::Off => continue,
                };
                answers.push(Answer::new(at, Subject::tunnel(tunnel), verdict));
            }
        }
        for service in &device.facts.pam_services {
            // A module that a stack asks twice is one subject; a line with the option decides.
            let mut modules: BTreeMap<&str, Verdict> = BTreeMap::new();
            for line in service.lines.iter().filter(|line| line.facility == Some(PamFacility::Auth)) {
                let Some((kind, argument)) = further_factor(line) else { continue };
                match argument {
                    Some(argument) => {
                        let fail = fail(&service.name, line, kind, argument);
                        let told = modules.entry(&line.module).or_insert_with(|| Verdict::pass(line.origin));
                        if matches!(told, Verdict::Pass(_)) {
                            *told = Verdict::Fail(fail);
                        }
                    }
                    None => {
                        modules.entry(&line.module).or_insert_with(|| Verdict::pass(line.origin));
                    }
                }
            }
            for (module, verdict) in modules {
                let subject = Subject::of(SubjectKind::PamStack).with(&service.name).with(module);
                answers.push(Answer::new(at, subject, verdict));
            }
        }
    }
    answers
}

/// The fault of a tunnel whose sheet states that the code is optional.
fn by_rule(tunnel: &Tunnel, origin: Origin) -> Fail {
    Fail {
        rating: CHECK.rated("accounts that are enrolled are asked"),
        title: format!("{} exempts accounts without a second factor", name_of(tunnel)).into(),
        detail: "The second factor is optional: accounts that are not enrolled log in without it.".into(),
        evidence: vec![origin, tunnel.origin],
    }
}

/// The fault of a line that accepts accounts without the factor.
fn fail(service: &str, line: &PamLine, kind: FactorKind, argument: &str) -> Fail {
    let factor = match kind {
        FactorKind::OneTimeCode => "one-time code",
        _ => "token",
    };
    let (rating, title, detail) = if argument == "alwaysok" {
        (
            CHECK.rated_at(Severity::High, "the module accepts any code"),
            format!("`{}` accepts any code in the PAM stack `{service}`", line.module),
            format!("`{argument}` makes the module succeed whatever is entered."),
        )
    } else {
        (
            CHECK.rated("accounts that are enrolled are asked"),
            format!("PAM stack `{service}` exempts accounts without a {factor}"),
            format!(
                "`{argument}` of `{}` lets accounts that are not enrolled log in without the second factor.",
                line.module
            ),
        )
    };
    Fail { rating, title: title.into(), detail: detail.into(), evidence: vec![line.origin] }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (text, wanted) in [
            (
                "auth required pam_unix.so\nauth required pam_phone_authenticator.so nullok\n",
                &["fail medium d sshd:2"][..],
            ),
            ("auth required pam_u2f.so nouserok cue\n", &["fail medium d sshd:1"]),
            ("auth required pam_oath.so alwaysok usersfile=/etc/oath/users\n", &["fail high d sshd:1"]),
            (
                "auth sufficient pam_phone_authenticator.so\nauth required pam_phone_authenticator.so nullok\n",
                &["fail medium d sshd:2"],
            ),
            ("auth required pam_phone_authenticator.so\n", &["pass d"]),
            ("auth required pam_oath.so usersfile=/etc/oath/users\n", &["pass d"]),
            ("auth required pam_unix.so nullok\n", &[]),
            ("#auth required pam_phone_authenticator.so nullok\n", &[]),
            ("account required pam_phone_authenticator.so nullok\n", &[]),
        ] {
            run(&CHECK, &[(text, &[("d/etc/pam.d/sshd", text)], wanted)]);
        }
    }
}
