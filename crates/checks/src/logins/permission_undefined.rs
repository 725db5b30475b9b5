//! A permission names a role, and only a group has that name, or the reverse.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::service_of;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Device;
use trevlin_model::account::UserGroup;
use trevlin_model::grant::{Grantee, ServicePermission};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/permission-undefined",
    area: Area::Logins,
    title: "Permission for a group or role that does not exist",
    severity: Severity::Medium,
    why: "Appliances and server roles keep groups and roles in separate lists, often with similar names. A permission that \
          names the wrong kind admits no user, so that a broader one is soon added beside it, or admits everyone, where an \
          empty condition counts as met.",
    fix: "Let the permission name the intended list, and test it with an account that is in it and one that is not. Remove \
          broader permissions that were added meanwhile.",
    judged: "Judged for devices whose sheet states their groups and roles. Fails where a permission that is switched on names \
             a role and only a group has that name, or the reverse. Other names may belong to a directory and are not \
             judged.",
    references: &["NIST SP 800-53 Rev. 5, AC-3"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for one in device.facts.permissions.iter().filter(|one| !one.off) {
            let (name, role) = match &one.who {
                Grantee::Group(name) => (name, false),
                Grantee::Role(name) => (name, true),
                Grantee::AllUsers | Grantee::User(_) => continue,
            };
            answers.extend(judge(device, one, name, role).map(|verdict| {
                let subject = Subject::of(SubjectKind::Permission).with(&one.service).with(name);
                Answer::new(at, subject, verdict)
            }));
        }
    }
    answers
}

fn judge(device: &Device, one: &ServicePermission, name: &str, role: bool) -> Option<Verdict> {
    let named = |group: &&UserGroup| group.name.eq_ignore_ascii_case(name);
    let mut found = device.facts.groups.iter().filter(named);
    let first = found.next()?;
    if first.role == role || found.any(|group| group.role == role) {
        return Some(Verdict::pass(first.origin));
    }
    let (wanted, there) = if role { ("role", "group") } else { ("group", "role") };
    Some(Verdict::Fail(Fail {
        rating: CHECK.rated("the permission does not apply to those it was made for"),
        title: format!(
            "{} is permitted to a {wanted} `{name}` that does not exist",
            service_of(device, &one.service)
        )
        .into(),
        detail: format!("No {wanted} has the name `{name}`; a {there} has.").into(),
        evidence: vec![one.origin, first.origin],
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (who, off, wanted) in [
            ("{ role = \"crew\" }", "", &["fail medium d sheet.toml:12 sheet.toml:6"][..]),
            ("{ group = \"crew\" }", "", &["pass d"]),
            ("{ group = \"pilots\" }", "", &["fail medium d sheet.toml:12 sheet.toml:9"]),
            ("{ role = \"Pilots\" }", "", &["pass d"]),
            // It may be a group of a directory.
            ("{ group = \"engineers\" }", "", &[]),
            ("{ role = \"crew\" }", "off = true\n", &[]),
            ("\"all-users\"", "", &[]),
        ] {
            let text = format!(
                "sheet = \"trevlin-sheet/2\"\n[[tunnels]]\nname = \"vpn\"\nfamily = \"tls\"\nrole = \"server\"\n[[groups]]\nname \
                 = \"crew\"\nmembers = [\"astrid\"]\n[[groups]]\nname = \"pilots\"\nrole = true\n[[permissions]]\nservice = \
                 \"vpn\"\nwho = {who}\n{off}"
            );
            run(&CHECK, &[(who, &[("d/sheet.toml", &text)], wanted)]);
        }
    }
}
