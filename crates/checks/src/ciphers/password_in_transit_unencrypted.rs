//! A password crosses the network as it is.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, of_device};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Origin;
use trevlin_model::served::{
    AuthRequirement, PartKind, Remark, Requirement, ServedKind, ServiceResource, TransportSecurity,
};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "ciphers/password-in-transit-unencrypted",
    area: Area::Ciphers,
    title: "Password sent without encryption",
    severity: Severity::Medium,
    why: "An attacker on the path reads the password and can use it wherever its owner does. Users often reuse it for other services.",
    fix: "Offer the login over TLS only, and redirect HTTP (`return 301 https://…`, `hostssl`, `force_local_logins_ssl=YES`, \
          `tls-port`, `security simple_bind=128`). Replace Telnet by SSH, and carry a VNC server inside TLS or SSH.",
    judged: "Fails for each login page, FTP folder, database rule, cache, broker and remote desktop that accepts a password over a \
             connection without mandatory encryption, beyond the device itself. Passes where TLS is required, where the site \
             only redirects, and where the method does not reveal the password. Undetermined for an administration page that \
             is proxied without encryption.",
    references: &["RFC 7617, 4", "RFC 4217, 15", "RFC 9325, 3", "NIST SP 800-63B, 4.1.3"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in (0..estate.devices.len()).flat_map(|device| of_device(estate, device)) {
        // Communities have a check of their own.
        if one.served.is_local() || one.served.kind == ServedKind::Monitoring {
            continue;
        }
        // Rights within a directory are of its one login.
        let parts = one.served.parts.iter();
        let directory = one.served.kind == ServedKind::Directory;
        for part in parts.filter(|part| !directory || part.kind == PartKind::Whole) {
            let asks = matches!(
                part.login.value(),
                Some(AuthRequirement::Password | AuthRequirement::PasswordAndCode)
            );
            let subject = Subject::part(one.served, part).limited_to(&part.sources);
            // Users type passwords into a screen, whatever proves who they are.
            let typed = one.served.kind == ServedKind::RemoteDesktop
                && part.login.value() == Some(&AuthRequirement::Proof);
            if !asks && !typed && part.remark(Remark::ClearPassword).is_none() {
                answers.extend(handed_on(one, part).map(|verdict| Answer::new(one.device, subject, verdict)));
                continue;
            }
            let verdict = match bare(one, part) {
                Some(lines) => fail(one, part, lines),
                None => one.holds_on_the_way(part),
            };
            answers.push(Answer::new(one.device, subject, verdict));
        }
    }
    answers
}

/// A question about a page for administrators that is handed on from a connection without encryption: whether a password is typed
/// there, its own server decides.
fn handed_on(one: ServiceCase<'_>, part: &ServiceResource) -> Option<Verdict> {
    let handed = part.remark(Remark::HandedOn).filter(|_| part.login.value().is_none())?;
    part.remark(Remark::Administration)?;
    let plain = one
        .served
        .endpoints
        .iter()
        .find(|place| place.carried == TransportSecurity::Plain && !place.is_local())?;
    let question = format!(
        "Please state whether {} requires a password: it is proxied from a connection without encryption.",
        one.part(part)
    );
    Some(Verdict::ask(question, vec![handed, plain.origin]))
}

/// Lines that show that encryption is not required.
fn bare(one: ServiceCase<'_>, part: &ServiceResource) -> Option<Vec<Origin>> {
    if part.sources.is_local() {
        return None;
    }
    if let Some(line) = part.remark(Remark::ClearPassword) {
        return Some(vec![line]);
    }
    if let Some(setting) = &part.encryption {
        return (setting.value() != Some(&Requirement::Required))
            .then(|| setting.origin().into_iter().collect());
    }
    let plain = one
        .served
        .endpoints
        .iter()
        .find(|place| place.carried != TransportSecurity::Encrypted && !place.is_local())?;
    Some(vec![plain.origin])
}

fn fail(one: ServiceCase<'_>, part: &ServiceResource, lines: Vec<Origin>) -> Verdict {
    let typed =
        one.served.kind == ServedKind::RemoteDesktop && part.login.value() == Some(&AuthRequirement::Proof);
    let (title, detail) = match typed {
        true => (
            "sends its screen without encryption",
            "The screen and every key that is typed, passwords among them, can be read in transit.",
        ),
        false => (
            "accepts passwords without encryption",
            "The password, or an equivalent of it, can be read in transit.",
        ),
    };
    one.fail(
        CHECK.rating(),
        part,
        format!("{} {title}", one.part(part)),
        detail.into(),
        lines.into_iter().chain(part.lines()).collect(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const NGINX: &str = "http {\n server {\n LISTEN\n auth_basic x;\n }\n}\n";
        const PLAIN: (&str, &str) = ("d/etc/postgresql/15/main/postgresql.conf", "listen_addresses = '*'\n");
        for (file, text, wanted) in [
            (
                "nginx.conf",
                NGINX.replace("LISTEN", "listen 80;"),
                &["fail medium d nginx.conf:3 nginx.conf:2 nginx.conf:4"][..],
            ),
            ("nginx.conf", NGINX.replace("LISTEN", "listen 443 ssl;"), &["pass d"]),
            (
                "nginx.conf",
                NGINX.replace("LISTEN", "listen 443 ssl;\nlisten 80;"),
                &["fail medium d nginx.conf:4 nginx.conf:2 nginx.conf:5"],
            ),
            ("nginx.conf", NGINX.replace("LISTEN", "listen 127.0.0.1:80;"), &[]),
            ("nginx.conf", NGINX.replace("LISTEN", "listen 80;\nreturn 301 https://$host$request_uri;"), &[]),
            (
                "nginx.conf",
                "http {\n server {\n listen 80;\n location /admin { proxy_pass http://10.4.0.9; }\n }\n}\n"
                    .into(),
                &["ask d"],
            ),
            (
                "vsftpd.conf",
                "anonymous_enable=NO\nlocal_enable=YES\n".into(),
                &["fail medium d vsftpd.conf:2"],
            ),
            ("vsftpd.conf", "anonymous_enable=NO\nlocal_enable=YES\nssl_enable=YES\n".into(), &["pass d"]),
            ("redis.conf", "requirepass x\n".into(), &["fail medium d redis.conf:1"]),
            ("pg_hba.conf", "host all all all password\n".into(), &["fail medium d pg_hba.conf:1"]),
            ("pg_hba.conf", "host all all all scram-sha-256\n".into(), &[]),
            (
                "systemd/system/screen.service",
                "[Service]\nExecStart=/usr/bin/x11vnc -rfbauth /etc/pw\n".into(),
                &["fail medium d screen.service:2"],
            ),
            (
                "systemd/system/screen.service",
                "[Service]\nExecStart=/usr/bin/x11vnc -rfbauth /etc/pw -ssl\n".into(),
                &["pass d"],
            ),
            (
                "systemd/system/screen.service",
                "[Service]\nExecStart=/usr/bin/x11vnc -rfbauth /etc/pw -localhost\n".into(),
                &[],
            ),
            (
                "inetd.conf",
                "telnet stream tcp nowait root /usr/sbin/in.telnetd in.telnetd\n".into(),
                &["fail medium d inetd.conf:1"],
            ),
            (
                "cockpit/cockpit.conf",
                "[WebService]\nAllowUnencrypted = true\n".into(),
                &["fail medium d cockpit.conf:2 cockpit.conf:1"],
            ),
            ("cockpit/cockpit.conf", "[WebService]\n".into(), &["pass d"]),
        ] {
            run(&CHECK, &[(&text, &[(&format!("d/etc/{file}"), &text), PLAIN], wanted)]);
        }
    }
}
