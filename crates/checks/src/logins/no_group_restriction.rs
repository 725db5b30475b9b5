//! Every account may log in: no group and no name is stated.

use crate::check::{Answer, Check, Fail, Need, Reason, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::{name_of, service_of};
use trevlin_analysis::authentication::{lines_of_service, provide_pam};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::login_sources::of_accounts;
use trevlin_analysis::reachability_from::Reachability;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::grant::{Grantee, ServicePermission};
use trevlin_model::login_source::Admission;
use trevlin_model::pam::{PamFacility, PamLine};
use trevlin_model::ssh::{SshConnection, SshServer};
use trevlin_model::{Device, Origin, PasswordSource, Protocol, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/no-group-restriction",
    area: Area::Logins,
    title: "Login not restricted to a group",
    severity: Severity::Low,
    why: "Accounts are created for many purposes, such as mail or a single program. Where a login path accepts every \
          account, each new account gains it without a decision.",
    fix: "Restrict the login to a group: `AllowGroups` for SSH, or `pam_succeed_if` or `pam_access` in the PAM stack of a \
          VPN.",
    judged: "Fails where an SSH server sets neither AllowUsers nor AllowGroups, its PAM stack does not restrict users, and \
             more than one account with a shell was exported; one level higher where it is reachable from the Internet. \
             Medium where SSSD, nslcd or NIS admit every account of a directory (`access_provider` and `pam_authz_search` limit them). \
             Fails where a VPN uses PAM and the stack does not restrict users by name or group, lower with a client certificate. \
             Undetermined where the stack was not exported. Fails where a permission of a device sheet is for all users; medium \
             where another system keeps the accounts.",
    references: &["sshd_config(5), AllowGroups", "pam_succeed_if(8)", "pam_access(8)"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

/// Modules that restrict users by name or group.
const SORTING: [&str; 4] = ["pam_access", "pam_listfile", "pam_succeed_if", "pam_wheel"];

/// Whether a line restricts users before login.
fn sorts(line: &PamLine) -> bool {
    let about = matches!(line.facility, None | Some(PamFacility::Auth | PamFacility::Account));
    about && SORTING.contains(&line.module.as_str())
}

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for server in device.facts.ssh_servers.iter().filter(|server| server.refused.is_none()) {
            answers.extend(
                shell(estate, at, device, server).map(|verdict| Answer::new(at, Subject::ssh(), verdict)),
            );
        }
        answers.extend(
            device
                .facts
                .permissions
                .iter()
                .filter(|one| one.who == Grantee::AllUsers && !one.off)
                .map(|one| Answer::new(at, subject_of(one), for_everybody(device, one))),
        );
        for tunnel in device.facts.tunnels.iter().filter(|tunnel| tunnel.accepts_clients()) {
            answers.extend(
                by_directory(device, tunnel).map(|verdict| Answer::new(at, Subject::tunnel(tunnel), verdict)),
            );
            let asked = tunnel.proof.passwords.iter().find_map(|check| match &check.source {
                PasswordSource::Pam(service) => Some((service, check.origin)),
                _ => None,
            });
            if let Some((service, origin)) = asked {
                answers.push(Answer::new(
                    at,
                    Subject::tunnel(tunnel),
                    by_pam(device, tunnel, service, origin),
                ));
            }
        }
    }
    answers
}

fn subject_of(one: &ServicePermission) -> Subject {
    Subject::of(SubjectKind::Permission).with(&one.service).with("all-users")
}

/// A policy that admits every account.
fn for_everybody(device: &Device, one: &ServicePermission) -> Verdict {
    // A list of the device's own for this service is a restriction as well.
    let listed = device
        .facts
        .tunnels
        .iter()
        .filter(|tunnel| tunnel.name == one.service)
        .any(|tunnel| tunnel.proof.passwords.iter().any(|check| check.source.list().is_some()));
    let (severity, why) = if listed {
        (CHECK.severity, "its accounts are those of a list of the device")
    } else {
        (Severity::Medium, "its accounts are those of a directory or another system")
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("{} admits every account", service_of(device, &one.service)).into(),
        detail: format!(
            "The permission for {} names no group, role or user.",
            service_of(device, &one.service)
        )
        .into(),
        evidence: vec![one.origin],
    })
}

/// Where another system keeps the accounts, a sheet should state which of them are admitted.
fn by_directory(device: &Device, tunnel: &Tunnel) -> Option<Verdict> {
    let missing = tunnel.missing_configuration().filter(|one| one.unsaid.is_some())?;
    let elsewhere = |source: &PasswordSource| {
        matches!(
            source,
            PasswordSource::Radius | PasswordSource::Directory | PasswordSource::IdentityProvider
        )
    };
    let asked = tunnel.proof.passwords.iter().find(|check| elsewhere(&check.source))?;
    let own: Vec<&ServicePermission> =
        device.facts.permissions.iter().filter(|one| one.service == tunnel.name && !one.off).collect();
    if own.is_empty() {
        let ask =
            missing.question(&format!("which groups or users may use {} (`permissions`)", name_of(tunnel)));
        return Some(Verdict::ask(ask, vec![asked.origin]));
    }
    let limited = own.iter().all(|one| one.who != Grantee::AllUsers);
    limited.then(|| Verdict::pass_by(own.iter().map(|one| one.origin), tunnel.origin))
}

fn shell(estate: &Analyses, at: usize, device: &Device, server: &SshServer) -> Option<Verdict> {
    let connection = SshConnection::default();
    let names = ["allowusers", "allowgroups"]
        .iter()
        .find_map(|keyword| server.effective(keyword, &connection).origin());
    let shells = device.facts.accounts.iter().filter(|account| account.has_shell()).count();
    // PAM may sort them as well, where it is asked.
    let by_pam = server.may_be_on("usepam", &connection);
    let sorted = || {
        let lines = lines_of_service(device, "sshd").ok().filter(|_| by_pam)?;
        lines.iter().find(|line| sorts(line)).map(|line| line.origin)
    };
    // A permission for everybody is judged by itself.
    let permitted = || {
        let own = device.facts.permissions.iter().find(|one| one.service == "SSH" && !one.off);
        own.map(|one| one.origin)
            .or_else(|| device.logins.iter().find(|one| one.service == "SSH").map(|one| one.origin))
    };
    if let Some(origin) = names.or_else(sorted).or_else(permitted) {
        return Some(Verdict::pass(origin));
    }
    if let Some(missing) = server.missing_configuration() {
        return Some(Verdict::ask_reference(missing, "which accounts SSH accepts"));
    }
    let port = server.port(&connection);
    let reachability_from = Reachability::of(estate, at, Protocol::TCP, port);
    for (source, admits) in of_accounts(device) {
        match admits {
            Some(Admission::Everybody) => {
                return Some(Verdict::Fail(Fail {
                    rating: CHECK.rated_at(Severity::Medium, "another system keeps the accounts"),
                    title: format!("SSH accepts every account of {}", source.name).into(),
                    detail: "Neither AllowUsers nor AllowGroups is set, and no setting of the source limits who may log in.".into(),
                    evidence: [server.origin, source.admits.origin().unwrap_or(source.origin)]
                        .into_iter()
                        .chain(reachability_from.evidence())
                        .collect(),
                }));
            }
            Some(_) => {}
            None => {
                let question = format!("Please state which accounts of {} may log in", source.name);
                return Some(Verdict::ask(question, vec![source.origin]));
            }
        }
    }
    if shells < 2 {
        return None;
    }
    let severity = if reachability_from.is_open() { Severity::Medium } else { CHECK.severity };
    let why = reachability_from
        .phrase(estate)
        .unwrap_or_else(|| "no port forward from the Internet was found".to_owned());
    Some(Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("SSH accepts all {shells} accounts with a shell").into(),
        detail: "Neither AllowUsers nor AllowGroups is set.".into(),
        evidence: [server.origin].into_iter().chain(reachability_from.evidence()).collect(),
    }))
}

fn by_pam(device: &Device, tunnel: &Tunnel, service: &str, asked_at: Origin) -> Verdict {
    let lines = match lines_of_service(device, service) {
        Ok(lines) => lines,
        Err(missing) => {
            let reason = format!("whether {} accepts every account", name_of(tunnel));
            return Verdict::provide(provide_pam(&missing.0), Reason::decides(reason), vec![asked_at])
                .wanting(format!("/etc/pam.d/{missing}"));
        }
    };
    // A remote list decides there, which these files do not show.
    let decides = |line: &&&PamLine| sorts(line) || line.module.starts_with("pam_radius");
    if let Some(line) = lines.iter().find(decides) {
        return Verdict::pass(line.origin);
    }
    Verdict::Fail(Fail {
        rating: if tunnel.always_requires_certificate() {
            CHECK.rated("a client certificate is required as well")
        } else {
            CHECK.rated_at(Severity::Medium, "the VPN gives access to internal networks")
        },
        title: format!("{} accepts every account", name_of(tunnel)).into(),
        detail: format!("The PAM stack of `{service}` does not restrict users by name or group.").into(),
        evidence: vec![asked_at, tunnel.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn shells() {
        const TWO: (&str, &str) =
            ("d/etc/passwd", "root:x:0:0::/root:/bin/bash\nann:x:1000:1000::/home/ann:/bin/bash\n");
        const ONE: (&str, &str) =
            ("d/etc/passwd", "root:x:0:0::/root:/bin/bash\nann:x:9:9::/:/usr/sbin/nologin\n");
        for (text, accounts, wanted) in [
            ("PermitRootLogin no\nMaxAuthTries 3\n", TWO, &["fail low d sshd_config:1"][..]),
            ("PermitRootLogin no\nMaxAuthTries 3\n", ONE, &[]),
            ("PermitRootLogin no\nAllowGroups crew\n", TWO, &["pass d"]),
            ("PermitRootLogin no\n#AllowGroups crew\n", TWO, &["fail low d sshd_config:1"]),
            ("PermitRootLogin no\nDenyUsers bob\n", TWO, &["fail low d sshd_config:1"]),
            ("Include more.conf\nPermitRootLogin no\n", TWO, &["ask d"]),
        ] {
            run(&CHECK, &[(text, &[("d/etc/ssh/sshd_config", text), accounts], wanted)]);
        }
    }

    #[test]
    fn shells_for_a_directory() {
        const SSHD: (&str, &str) = ("d/etc/ssh/sshd_config", "PermitRootLogin no\nMaxAuthTries 3\n");
        const LIMITED: (&str, &str) = ("d/etc/ssh/sshd_config", "PermitRootLogin no\nAllowGroups crew\n");
        const NAMES: (&str, &str) = ("d/etc/nsswitch.conf", "passwd: files sss\n");
        const NONE: (&str, &str) = ("d/etc/nsswitch.conf", "passwd: files\n");
        for (server, names, lines, wanted) in [
            (SSHD, NAMES, "", &["fail medium d sshd_config:1 sssd.conf:3"][..]),
            (SSHD, NAMES, "access_provider = permit\n", &["fail medium d sshd_config:1 sssd.conf:6"]),
            (SSHD, NAMES, "access_provider = simple\nsimple_allow_groups = crew\n", &[]),
            (SSHD, NAMES, "access_provider = ldap\nldap_access_filter = (host=gate)\n", &[]),
            (SSHD, NAMES, "access_provider = proxy\n", &["ask d"]),
            (LIMITED, NAMES, "", &["pass d"]),
            (SSHD, NONE, "", &[]),
        ] {
            let text = format!(
                "[sssd]\ndomains = quay\n[domain/quay]\nid_provider = ldap\nldap_uri = ldaps://a\n{lines}"
            );
            run(&CHECK, &[(lines, &[server, names, ("d/etc/sssd/sssd.conf", &text)], wanted)]);
        }
    }

    #[test]
    fn shells_that_pam_sorts() {
        const TWO: (&str, &str) =
            ("d/etc/passwd", "root:x:0:0::/root:/bin/bash\nann:x:1000:1000::/home/ann:/bin/bash\n");
        for (config, stack, wanted) in [
            ("UsePAM yes\nMaxAuthTries 3\n", "account required pam_access.so\n", "pass d"),
            ("UsePAM no\nMaxAuthTries 3\n", "account required pam_access.so\n", "fail low d sshd_config:1"),
            ("UsePAM yes\nMaxAuthTries 3\n", "session required pam_access.so\n", "fail low d sshd_config:1"),
        ] {
            run(
                &CHECK,
                &[(stack, &[TWO, ("d/etc/ssh/sshd_config", config), ("d/etc/pam.d/sshd", stack)], &[wanted])],
            );
        }
    }

    #[test]
    fn tunnels() {
        const SERVER: (&str, &str) =
            ("d/ocserv.conf", "ipv4-network = 10.9.0.0/24\nauth = pam\nmax-clients = 9\n");
        for (stack, wanted) in [
            (
                "auth required pam_unix.so\naccount required pam_unix.so\n",
                "fail medium d ocserv.conf:2 ocserv.conf:2",
            ),
            ("auth required pam_succeed_if.so user ingroup tunnel\nauth required pam_unix.so\n", "pass d"),
            ("auth required pam_unix.so\naccount required pam_access.so\n", "pass d"),
            (
                "auth required pam_unix.so\nsession required pam_access.so\n",
                "fail medium d ocserv.conf:2 ocserv.conf:2",
            ),
            (
                "auth required pam_unix.so\n#account required pam_access.so\n",
                "fail medium d ocserv.conf:2 ocserv.conf:2",
            ),
            ("@include common-auth\n", "ask d"),
        ] {
            run(&CHECK, &[(stack, &[SERVER, ("d/etc/pam.d/ocserv", stack)], &[wanted])]);
        }
        run(&CHECK, &[("no stack", &[SERVER], &["ask d"])]);
    }
}
