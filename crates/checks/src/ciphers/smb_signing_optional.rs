//! Messages of file shares are not signed.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Origin;
use trevlin_model::served::{Requirement, ServedKind, ServiceResource, Sources};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/smb-signing-optional",
    area: Area::Ciphers,
    title: "SMB signing not required",
    severity: Severity::Low,
    why: "An attacker between client and server can relay the client's login to the server, or change what is read and \
          written. Signing or encryption prevents this.",
    fix: "Require signing (`server signing = mandatory`), or encryption, which includes it (`server smb encrypt = \
          required`).",
    judged: "Fails where signing is not required and some share does not require encryption; one level lower where that is a \
             default. Passes where either is required. Undetermined where settings are stored outside the exports.",
    references: &["smb.conf(5), server signing", "CIS Controls 8, 3.10"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    let shared = |one: &ServiceCase<'_>| !one.served.is_local() && !one.served.parts.is_empty();
    for one in of_kinds(estate, &[ServedKind::Shares]).filter(shared) {
        let bare = one.served.parts.iter().find(|part| {
            let asked = |one: &Option<trevlin_model::Setting<Requirement>>| {
                one.as_ref().and_then(|setting| setting.value()) == Some(&Requirement::Required)
            };
            !asked(&part.signing) && !asked(&part.encryption)
        });
        let verdict = match bare {
            None => {
                let line = one.served.parts.iter().find_map(stated);
                Verdict::pass_by(line, one.served.origin)
            }
            Some(part) if stated(part).is_none() && !one.served.open.is_empty() => {
                one.open().unwrap_or_else(|| one.holds())
            }
            Some(part) => {
                one.unsaid(part.signing.as_ref(), "SMB signing (`signing` in `parts`)").unwrap_or_else(|| {
                    let stated = stated(part);
                    one.fail_of(
                        if stated.is_some() {
                            CHECK.rating()
                        } else {
                            CHECK.rating().lowered("it is the default of the program")
                        },
                        &Sources::everybody(),
                        format!("{} does not require SMB signing", one.title()),
                        "Clients without signing are accepted.".into(),
                        vec![stated.unwrap_or(one.served.origin)],
                    )
                })
            }
        };
        answers.push(Answer::new(one.device, Subject::served(one.served), verdict));
    }
    answers
}

/// The line about signatures, where one is written.
fn stated(part: &ServiceResource) -> Option<Origin> {
    part.signing.as_ref().and_then(|setting| setting.origin())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (lines, share, wanted) in [
            ("server signing = disabled", "", "fail low d smb.conf:2"),
            ("server signing = auto", "", "fail low d smb.conf:2"),
            ("workgroup = QUAY", "", "fail info d smb.conf:1"),
            ("server signing = mandatory", "", "pass d"),
            ("include = registry", "", "ask d"),
            ("smb encrypt = required", "", "pass d"),
            // One share closes what the whole leaves open, and the other way round.
            ("workgroup = QUAY", "smb encrypt = required\n", "pass d"),
            ("smb encrypt = required", "smb encrypt = off\n", "fail info d smb.conf:1"),
        ] {
            let text = format!("[global]\n{lines}\n[a]\npath = /a\n{share}");
            run(&CHECK, &[(lines, &[("d/etc/samba/smb.conf", &text)], &[wanted])]);
        }
    }
}
