//! Files are shared without a login.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, is_few, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::served::{AuthRequirement, Remark, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/share-unauthenticated",
    area: Area::Logins,
    title: "File share without authentication",
    severity: Severity::Medium,
    why: "Every host that reaches the service can read the files, and access cannot be attributed to a user. Where the share \
          is writable, an attacker can also plant files that users open.",
    fix: "Require a login (`guest ok = no`, `auth users`, `anonymous_enable=NO`), grant each account only what it needs, and \
          keep public files on a separate read-only share. TFTP has no login: limit its clients by the packet filter, and its folder to files \
          that may be known (without `--create`).",
    judged: "Fails for each SMB share, rsync module, FTP or TFTP folder or writable web folder (WebDAV) without authentication; one level higher where it is \
             writable, one level lower where only some networks are permitted. Passes where a login is required, where only \
             a few addresses are permitted, and where the service is limited to the device itself. Undetermined where shares \
             are defined outside the exports, or the version decides.",
    references: &[
        "smb.conf(5), guest ok",
        "rsyncd.conf(5), auth users",
        "RFC 2577, 4",
        "NIST SP 800-209, 4.3",
    ],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    const KINDS: [ServedKind; 4] =
        [ServedKind::Shares, ServedKind::Modules, ServedKind::Transfers, ServedKind::Pages];
    for one in of_kinds(estate, &KINDS) {
        let pages = one.served.kind == ServedKind::Pages;
        answers.extend(one.open_answer().filter(|_| !pages));
        // Of a web site only folders that clients may write to are shares.
        let parts = one.served.parts.iter().filter(|part| !pages || is_web_folder(part));
        answers.extend(parts.map(|part| {
            Answer::new(
                one.device,
                Subject::part(one.served, part),
                judge(one, part, baseline.at(one.device)),
            )
        }));
    }
    answers
}

/// Whether a page is a folder that clients may write to by WebDAV (RFC 4918).
fn is_web_folder(part: &ServiceResource) -> bool {
    const OTHERS: [Remark; 3] = [Remark::Commands, Remark::HandedOn, Remark::Administration];
    part.is_written() && OTHERS.into_iter().all(|remark| part.remark(remark).is_none())
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource, thresholds: &Thresholds) -> Verdict {
    match part.login.value() {
        None => one.ask_login(part),
        Some(AuthRequirement::Nothing) if one.served.is_local() || is_few(&part.sources, thresholds) => {
            one.holds_by_limit(part)
        }
        Some(AuthRequirement::Nothing) => {
            let written = part.is_written();
            let base = if written { CHECK.rating().raised("it is writable") } else { CHECK.rating() };
            let behind = part.path.as_ref().map(|path| format!(" Its path is {path}.")).unwrap_or_default();
            let may = if written { "read and change" } else { "read" };
            let lines = part.lines().into_iter().chain(part.writes.origin().filter(|_| written)).collect();
            one.fail(
                one.limited(base, &part.sources),
                part,
                format!("{} requires no authentication", part.title()),
                format!(
                    "Permitted sources that may {may} without a login: {}.{behind}",
                    part.sources.words()
                ),
                lines,
            )
        }
        Some(_) => one.holds_by_login(part),
    }
}

/// The same with a capital letter.
pub(crate) fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or(String::new(), |first| first.to_uppercase().chain(letters).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (file, text, wanted) in [
            ("smb.conf", "[global]\n[a]\nguest ok = yes\n", &["fail medium d smb.conf:2 smb.conf:3"][..]),
            (
                "smb.conf",
                "[global]\n[a]\nguest ok = yes\nread only = no\n",
                &["fail high d smb.conf:2 smb.conf:3 smb.conf:4"],
            ),
            (
                "smb.conf",
                "[global]\n[a]\nguest ok = yes\nhosts allow = 10.4.0.0/20\n",
                &["fail low d smb.conf:2 smb.conf:3 smb.conf:4"],
            ),
            // A handful of machines, a login, and shares that close what the whole opens.
            ("smb.conf", "[global]\n[a]\nguest ok = yes\nhosts allow = 10.4.0.9\n", &["pass d"]),
            ("smb.conf", "[global]\nguest ok = yes\n[a]\nguest ok = no\n", &["pass d"]),
            (
                "smb.conf",
                "[global]\nguest ok = no\n[a]\nguest ok = yes\n",
                &["fail medium d smb.conf:3 smb.conf:4"],
            ),
            (
                "smb.conf",
                "[global]\nguest ok = yes\ninterfaces = lo\nbind interfaces only = yes\n[a]\npath = /a\n",
                &["pass d"],
            ),
            ("smb.conf", "[global]\ninclude = registry\n[a]\npath=/a\n", &["ask d", "pass d"]),
            ("rsyncd.conf", "[a]\npath = /a\nuse chroot = yes\n", &["fail medium d rsyncd.conf:1"]),
            ("rsyncd.conf", "[a]\npath = /a\nauth users = ann\n", &["pass d"]),
            ("vsftpd.conf", "anonymous_enable=YES\n", &["fail medium d vsftpd.conf:1"]),
            ("vsftpd.conf", "anonymous_enable=NO\nlocal_enable=YES\n", &["pass d"]),
            ("vsftpd.conf", "listen=YES\n", &["ask d"]),
        ] {
            run(&CHECK, &[(text, &[(&format!("d/etc/{file}"), text)], wanted)]);
        }
        // Lists of clients that the server is told to follow.
        let ftp = ("d/etc/vsftpd.conf", "anonymous_enable=YES\ntcp_wrappers=YES\n");
        let deny = ("d/etc/hosts.deny", "ALL: ALL\n");
        let allow = |text: &'static str| ("d/etc/hosts.allow", text);
        run(
            &CHECK,
            &[
                ("lists that were not exported", &[ftp], &["ask d", "fail medium d vsftpd.conf:1"]),
                ("one machine", &[ftp, deny, allow("vsftpd: 10.4.0.9\n")], &["pass d"]),
                (
                    "a network",
                    &[ftp, deny, allow("vsftpd: 10.4.0.\n")],
                    &["fail low d vsftpd.conf:1 hosts.allow:1 hosts.deny:1"],
                ),
                (
                    "other daemons",
                    &[ftp, ("d/etc/hosts.deny", "sshd: ALL\n")],
                    &["fail medium d vsftpd.conf:1"],
                ),
            ],
        );
        for (inner, wanted) in [
            ("root /srv/dav;\ndav_methods PUT DELETE;", &["fail high d nginx.conf:4 nginx.conf:6"][..]),
            ("dav_methods off;", &[]),
            ("auth_basic x;\nauth_basic_user_file f;\ndav_methods PUT;", &["pass d"]),
        ] {
            let text = format!("http {{\nserver {{\nlisten 80;\nlocation / {{\n{inner}\n}}\n}}\n}}\n");
            run(&CHECK, &[(inner, &[("d/etc/nginx/nginx.conf", &text)], wanted)]);
        }
        let dav =
            "Listen 80\nDocumentRoot /srv\n<Directory /srv>\nDav On\nRequire all granted\n</Directory>\n";
        run(
            &CHECK,
            &[(
                "Apache",
                &[("d/etc/apache2/apache2.conf", dav)],
                &["fail high d apache2.conf:1 apache2.conf:5 apache2.conf:4"],
            )],
        );
        let off = ("d/units.txt", "UNIT FILE STATE PRESET\nsmbd.service masked enabled\n");
        let share = ("d/etc/smb.conf", "[global]\n[a]\nguest ok = yes\nread only = no\n");
        run(
            &CHECK,
            &[("switched off", &[off, share], &["fail low d smb.conf:2 smb.conf:3 smb.conf:4 units.txt:2"])],
        );
    }
}
