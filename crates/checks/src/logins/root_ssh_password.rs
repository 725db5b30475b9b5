//! Root may log in by SSH with a password.

use crate::check::{Answer, Check, Control, Fail, Run, Verdict};
use crate::subject::Subject;
use crate::support::rated::rated_from;
use trevlin_analysis::authentication::{Factors, ssh_login_paths};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::reachability_from::Reachability;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::identities;
use trevlin_model::account::StoredPassword;
use trevlin_model::ssh::{SshConnection, SshServer};
use trevlin_model::{Device, FactorKind, Protocol, Setting};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/root-ssh-password",
    area: Area::Logins,
    title: "SSH login as root with a password",
    severity: Severity::High,
    why: "The name root is known, so only one password protects full control of the host. Logs do not show which \
          administrator used it.",
    fix: "Set `PermitRootLogin no` and have administrators log in with personal accounts and use sudo. Where programs need \
          root, use `forced-commands-only` with a key.",
    judged: "Fails where `PermitRootLogin yes` is in effect and passwords are accepted. Passes with the default since \
             OpenSSH 7.0, which rejects root passwords, and where the root password is locked. Where nothing is set and the \
             version may be older, an information request follows if root has a password.",
    references: &["sshd_config(5), PermitRootLogin"],
    controls: &[Control::grundschutz("SYS.1.3.A8"), Control::sp800_53("IA-2")],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for server in device.facts.ssh_servers.iter().filter(|server| server.refused.is_none()) {
            answers.push(Answer::new(at, Subject::ssh(), judge(estate, at, device, server)));
        }
    }
    answers
}

/// Whether no password fits root's account, as far as it was exported.
fn locked(device: &Device) -> bool {
    device.facts.shadow.iter().any(|one| one.name == "root" && matches!(one.password, StoredPassword::Locked))
}

fn judge(estate: &Analyses, at: usize, device: &Device, server: &SshServer) -> Verdict {
    let groups = identities::root_groups(device);
    if server.excluded_by("root", &groups).is_some() {
        return Verdict::Pass;
    }
    let connection = SshConnection { user: Some("root"), groups: &groups, ..SshConnection::default() };
    let origin = match server.effective("permitrootlogin", &connection) {
        Setting::Stated { value, origin } if value.first().is_some_and(|word| word == "yes") => origin,
        _ => {
            return match server.missing_configuration() {
                Some(missing) => Verdict::ask_reference(missing, "whether root may log in"),
                None => Verdict::Pass,
            };
        }
    };
    let ways = ssh_login_paths(estate, at, server, &connection);
    let by_password = ways.iter().any(|way| match &way.factors {
        Factors::Known(kinds, _) => kinds.contains(&FactorKind::Knowledge) || kinds.is_empty(),
        Factors::Unknown { .. } => true,
    });
    if !by_password || locked(device) {
        return Verdict::Pass;
    }
    let reachability_from = Reachability::of(estate, at, Protocol::TCP, server.port(&connection));
    let rating =
        rated_from(CHECK.rated("a password is among the accepted methods"), &reachability_from, estate);
    Verdict::Fail(Fail {
        rating,
        title: "SSH permits root login with a password".into(),
        detail: format!("`PermitRootLogin yes` is in effect on {}, and passwords are accepted.", device.name)
            .into(),
        evidence: [origin].into_iter().chain(reachability_from.evidence()).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (config, shadow, wanted) in [
            ("PermitRootLogin yes\n", "", &["fail high d sshd_config:1"][..]),
            ("PermitRootLogin no\nPermitRootLogin yes\n", "", &["pass d"]),
            ("# PermitRootLogin yes\nUsePAM no\n", "", &["pass d"]),
            ("PermitRootLogin yes\nPasswordAuthentication no\n", "", &["pass d"]),
            (
                "PermitRootLogin no\nMatch User root\nPermitRootLogin yes\n",
                "",
                &["fail high d sshd_config:3"],
            ),
            ("PermitRootLogin yes\nMatch User ann\nPermitRootLogin no\n", "", &["fail high d sshd_config:1"]),
            ("PermitRootLogin yes\n", "root:*:19000:0:99999:7:::\n", &["pass d"]),
            ("PermitRootLogin yes\nMaxAuthTries x\n", "", &[]),
            ("Include more.conf\nMaxAuthTries 3\n", "", &["ask d"]),
            ("PermitRootLogin yes\nAllowUsers ann bob\n", "", &["pass d"]),
            ("PermitRootLogin yes\nAllowUsers ann root@10.4.0.*\n", "", &["fail high d sshd_config:1"]),
            ("PermitRootLogin yes\nDenyUsers root\n", "", &["pass d"]),
            ("PermitRootLogin yes\nDenyUsers root@192.0.2.9\n", "", &["fail high d sshd_config:1"]),
            ("PermitRootLogin yes\nAllowGroups crew\n", "", &["pass d"]),
            ("PermitRootLogin yes\n#AllowUsers ann\n", "", &["fail high d sshd_config:1"]),
        ] {
            run(&CHECK, &[(config, &[("d/etc/ssh/sshd_config", config), ("d/etc/shadow", shadow)], wanted)]);
        }
    }
}
