//! Root of an NFS client has root rights on the server's files.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{is_few, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::served::{AuthRequirement, Remark, ServedKind};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/nfs-no-root-squash",
    area: Area::Logins,
    title: "NFS export without root squashing",
    severity: Severity::Medium,
    why: "Root on one client reads and changes every file of the export, whatever its owner. Set-UID programs placed there \
          give root on other clients as well.",
    fix: "Remove `no_root_squash`, `anonuid=0`, `uid = root` and `force user = root`. Where a backup host must read \
          everything, give it a separate read-only export.",
    judged: "Fails for each export, module or share on which client root, or every client, works as root; one level higher \
             where it is open to any address, one level lower where it is read-only or limited to a few hosts. High at \
             least where the system or home folders are writable. Passes where \
             root is mapped to another user. Undetermined where an included file is missing.",
    references: &[
        "exports(5), no_root_squash",
        "rsyncd.conf(5), uid",
        "smb.conf(5), force user",
        "NIST SP 800-209, 4.3",
    ],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Exports, ServedKind::Modules, ServedKind::Shares]) {
        answers.extend(one.open_answer());
        for part in &one.served.parts {
            let Some(line) = part.remark(Remark::RootKept) else {
                answers.push(Answer::new(
                    one.device,
                    Subject::part(one.served, part).limited_to(&part.sources),
                    Verdict::pass(part.origin),
                ));
                continue;
            };
            let milder = is_few(&part.sources, baseline.at(one.device)) || !part.is_written();
            let base = match (part.sources.is_everybody(), milder) {
                // A guest with an account of its own is not anonymous.
                _ if part.login.value() == Some(&AuthRequirement::Proof) => {
                    CHECK.rating().lowered("authentication is required")
                }
                (true, false) => CHECK.rating().raised("writable by any host"),
                (true, true) | (false, false) => CHECK.rating(),
                (false, true) => CHECK.rating().lowered(if part.is_written() {
                    "limited to a few hosts"
                } else {
                    "read-only, and not open to every host"
                }),
            };
            let base = match part.path.as_deref().and_then(grave) {
                Some(why) if part.is_written() && base.severity() < Severity::High => {
                    base.at(Severity::High, why)
                }
                Some(why) if part.is_written() => base.raised(why),
                _ => base,
            };
            let verdict = one.fail(
                base,
                part,
                format!("NFS {} gives clients root access (no root squashing)", part.title()),
                format!(
                    "Permitted sources: {}; {}.",
                    part.sources.words(),
                    if part.is_written() { "writable" } else { "read-only" }
                ),
                [line].into_iter().chain(part.lines()).collect(),
            );
            answers.push(Answer::new(
                one.device,
                Subject::part(one.served, part).limited_to(&part.sources),
                verdict,
            ));
        }
    }
    answers
}

/// Why root of a client is root of the server, where it may write to a folder: it holds the system, or keys that log in.
fn grave(path: &str) -> Option<&'static str> {
    let path = path.trim_end_matches('/');
    let within = |folders: &[&str]| {
        folders
            .iter()
            .any(|one| path == *one || path.strip_prefix(one).is_some_and(|rest| rest.starts_with('/')))
    };
    if path.is_empty() || within(&["/etc", "/usr", "/bin", "/sbin", "/lib", "/boot", "/var/spool/cron"]) {
        Some("it holds the system of the server")
    } else if within(&["/home", "/root", "/export/home", "/srv/home"]) {
        Some("it holds home folders, and with them keys for SSH")
    } else {
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (file, text, wanted) in [
            ("exports", "/a *(rw,no_root_squash)\n", &["fail high d exports:1"][..]),
            ("exports", "/ 10.4.0.9(rw,no_root_squash)\n", &["fail high d exports:1"]),
            ("exports", "/ *(rw,no_root_squash)\n", &["fail critical d exports:1"]),
            ("exports", "/home 10.4.0.0/24(rw,no_root_squash)\n", &["fail high d exports:1"]),
            ("exports", "/home/ 10.4.0.0/24(ro,no_root_squash)\n", &["fail low d exports:1"]),
            ("exports", "/homes 10.4.0.0/24(rw,no_root_squash)\n", &["fail medium d exports:1"]),
            ("exports", "/a *(ro,no_root_squash)\n", &["fail medium d exports:1"]),
            ("exports", "/a 10.4.0.0/24(rw,no_root_squash)\n", &["fail medium d exports:1"]),
            ("exports", "/a 10.4.0.9(rw,no_root_squash)\n", &["fail low d exports:1"]),
            ("exports", "/a *(rw,no_root_squash,root_squash)\n", &["pass d"]),
            ("exports", "/a *(rw,no_root_squash,all_squash)\n", &["pass d"]),
            ("exports", "/a 10.4.0.0/24(rw)\n", &["pass d"]),
            (
                "rsyncd.conf",
                "uid = root\n[a]\npath = /a\nread only = no\n",
                &["fail high d rsyncd.conf:1 rsyncd.conf:2"],
            ),
            (
                "smb.conf",
                "[global]\n[a]\nforce user = root\nguest ok = yes\nread only = no\n",
                &["fail high d smb.conf:3 smb.conf:2 smb.conf:4"],
            ),
            ("smb.conf", "[global]\ninclude = /etc/more.conf\n[a]\n", &["ask d", "pass d"]),
            ("smb.conf", "[global]\n[a]\nforce user = gull\nguest ok = yes\n", &["pass d"]),
        ] {
            run(&CHECK, &[(text, &[(&format!("d/etc/{file}"), text)], wanted)]);
        }
    }
}
