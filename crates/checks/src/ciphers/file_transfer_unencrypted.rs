//! Files cross the network as they are.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, Who, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Setting;
use trevlin_model::served::{AuthRequirement, Requirement, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/file-transfer-unencrypted",
    area: Area::Ciphers,
    title: "File sharing without encryption in transit",
    severity: Severity::Low,
    why: "An attacker on the path can copy the files without access to the server. The logs of the server do not show it.",
    fix: "Require encryption (`server smb encrypt = required`, `sec=krb5p`, `ssl_enable=YES`), or carry the service inside a \
          tunnel or SSH. Keep iSCSI on a dedicated network.",
    judged: "Fails for each share, export, module, folder or target whose content need not be encrypted: low where the \
             configuration states it, info where it is a default and only internal networks reach it, higher where VPN \
             clients or the Internet do. Passes where encryption is required and where the service is limited to the device \
             itself. Undetermined where an included file is missing and everything visible is encrypted.",
    references: &["smb.conf(5), server smb encrypt", "RFC 7530, 3.2.1", "RFC 4217", "RFC 7143, 9.3"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let kinds = [
        ServedKind::Shares,
        ServedKind::Exports,
        ServedKind::Modules,
        ServedKind::Transfers,
        ServedKind::Disks,
    ];
    let mut answers = Vec::new();
    for one in of_kinds(estate, &kinds).filter(|one| !one.served.is_local()) {
        // Parts that are alike in this are one finding.
        let mut bare: Vec<&ServiceResource> = Vec::new();
        for part in
            one.served.parts.iter().filter(|part| part.login.value() != Some(&AuthRequirement::Refused))
        {
            if is_bare(part) {
                bare.push(part);
            } else {
                answers.push(Answer::new(
                    one.device,
                    Subject::part(one.served, part).limited_to(&part.sources),
                    Verdict::pass_by(part.encryption.as_ref().and_then(|one| one.origin()), part.origin),
                ));
            }
        }
        if let Some(first) = bare.first() {
            answers.push(Answer::new(one.device, Subject::served(one.served), judge(one, first, &bare)));
        } else {
            answers.extend(one.open_answer());
        }
    }
    answers
}

fn is_bare(part: &ServiceResource) -> bool {
    let setting = part.encryption.as_ref();
    setting.is_some_and(|setting| setting.value() != Some(&Requirement::Required)) && !part.sources.is_local()
}

fn judge(one: ServiceCase<'_>, first: &ServiceResource, bare: &[&ServiceResource]) -> Verdict {
    let widest = bare.iter().find(|part| part.sources.is_everybody()).unwrap_or(&first);
    let stated = bare.iter().find_map(|part| match &part.encryption {
        Some(Setting::Stated { origin, value }) if *value != Requirement::Required => Some(*origin),
        _ => None,
    });
    let near = matches!(one.who(&widest.sources), Who::Inside | Who::Off(_));
    let base = match stated.is_none() && near {
        true => CHECK.rating().lowered("it is a default, and reachable from internal networks only"),
        false => CHECK.rating(),
    };
    let mut names: Vec<String> = bare.iter().map(|part| part.title()).collect();
    names.dedup();
    one.fail_of(
        base,
        &widest.sources,
        format!("{} does not require encryption", one.title()),
        format!("Affected: {}.", crate::support::some_names(&names)),
        vec![stated.unwrap_or(first.origin)],
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (file, text, wanted) in [
            ("smb.conf", "[global]\nsmb encrypt = off\n[a]\npath = /a\n", &["fail low d smb.conf:2"][..]),
            ("smb.conf", "[global]\n[a]\npath = /a\n", &["fail info d smb.conf:2"]),
            ("smb.conf", "[global]\nsmb encrypt = off\n[a]\nsmb encrypt = required\n", &["pass d"]),
            (
                "smb.conf",
                "[global]\nsmb encrypt = required\n[a]\npath=/a\n[b]\nsmb encrypt = off\n",
                &["pass d", "fail low d smb.conf:6"],
            ),
            (
                "smb.conf",
                "[global]\nsmb encrypt = required\ninclude = /etc/more.conf\n[a]\n",
                &["pass d", "ask d"],
            ),
            ("exports", "/a 10.4.0.0/24(rw)\n", &["fail info d exports:1"]),
            ("exports", "/a 10.4.0.0/24(rw,sec=sys:krb5p)\n", &["fail low d exports:1"]),
            ("exports", "/a 10.4.0.0/24(rw,sec=krb5p)\n", &["pass d"]),
            ("rsyncd.conf", "address = 127.0.0.1\n[a]\npath = /a\n", &[]),
            ("rsyncd.conf", "[a]\npath = /a\n", &["fail info d rsyncd.conf:1"]),
            ("vsftpd.conf", "anonymous_enable=NO\nlocal_enable=YES\nssl_enable=YES\n", &["pass d"]),
        ] {
            run(&CHECK, &[(text, &[(&format!("d/etc/{file}"), text)], wanted)]);
        }
    }
}
