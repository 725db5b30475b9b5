//! File shares are spoken in an obsolete dialect.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::of_kinds;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::crypto::algorithms::{Status, lookup};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{ServedKind, Sources};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/smb1",
    area: Area::Ciphers,
    title: "SMBv1 or NFSv2/3 legacy dialect enabled",
    severity: Severity::Medium,
    why: "SMBv1 has no encryption, signs with MD5, and was the path of several worms. A server that still supports it can be \
          downgraded by an attacker on the path.",
    fix: "Disable SMB 1 and require version 3, or 2.1 while a legacy client needs it (`server min protocol = \
          SMB3_00` or `SMB2_10`). Identify such clients first: `smbstatus` shows the dialect of each.",
    judged: "Fails where the lowest dialect is SMBv1 or older, the default of Samba before 4.11; one level lower for SMBv2, \
             which has no encryption, where it is set. SMBv2 by default is not a finding. Passes from SMBv3 on. Undetermined \
             where settings are stored outside the exports.",
    references: &["smb.conf(5), server min protocol", "CISA, SMB Security Best Practices"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Shares]).filter(|one| !one.served.is_local()) {
        // Samba states the lowest version, and a device sheet those of a screen, in any order.
        let each =
            one.served.offers.iter().flat_map(|offer| offer.algorithms.iter().map(move |one| (offer, one)));
        let versions =
            each.filter_map(|(offer, one)| Some((one, lookup(offer.spelling, one.role, &one.name)?)));
        let known = versions.min_by_key(|(_, known)| known.status);
        let verdict = match known {
            Some((lowest, known)) if lowest.default.is_none() && known.status <= Status::Legacy => {
                let base = match known.status == Status::Broken {
                    true => CHECK.rating(),
                    false => CHECK.rating().at(Severity::Info, "it is outdated, and not known to be broken"),
                };
                one.fail_of(
                    base,
                    &Sources::everybody(),
                    format!("{} supports {} ({})", one.title(), known.name, lowest.name),
                    format!(
                        "`{}` is {} ({}, {}).",
                        lowest.name,
                        known.status.word(),
                        known.source,
                        known.year
                    ),
                    vec![lowest.origin],
                )
            }
            // The line may stand where no export shows it.
            Some((lowest, _)) if lowest.default.is_some() && !one.served.open.is_empty() => {
                one.open().unwrap_or_else(|| one.holds())
            }
            _ => {
                let offers = one.served.offers.iter().flat_map(|offer| &offer.algorithms);
                Verdict::pass_by(offers.map(|one| one.origin).take(1), one.served.origin)
            }
        };
        answers.push(Answer::new(one.device, Subject::served(one.served), verdict));
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (lines, wanted) in [
            ("min protocol = NT1", &["fail medium d smb.conf:2"][..]),
            ("server min protocol = LANMAN2", &["fail medium d smb.conf:2"]),
            ("server min protocol = SMB2", &["fail info d smb.conf:2"]),
            ("server min protocol = SMB3", &["pass d"]),
            ("server min protocol = NT1\nserver min protocol = SMB3", &["pass d"]),
            ("workgroup = QUAY", &["pass d"]),
            ("include = registry", &["ask d"]),
            ("include = registry\nserver min protocol = SMB3", &["pass d"]),
            ("; min protocol = NT1\nworkgroup = QUAY", &["pass d"]),
            ("min protocol = NT1\ninterfaces = lo\nbind interfaces only = yes", &[]),
        ] {
            let text = format!("[global]\n{lines}\n[a]\npath = /a\n");
            run(&CHECK, &[(lines, &[("d/etc/samba/smb.conf", &text)], wanted)]);
        }
    }
}
