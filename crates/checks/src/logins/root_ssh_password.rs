//! Root may log in by SSH with a password.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::rated::rated_from;
use crate::support::{each_once, without_effect};
use trevlin_analysis::authentication::{METHODS, ShellCondition, SshLoginPath, conditions, ssh_login_paths};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::reachability_from::Reachability;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::identities;
use trevlin_model::account::StoredPassword;
use trevlin_model::ssh::{SshConnection, SshServer};
use trevlin_model::{Device, FactorKind};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/root-ssh-password",
    area: Area::Logins,
    title: "SSH login as root with a password",
    severity: Severity::High,
    why: "The name root is known, so only one password protects full control of the host. Logs do not show which \
          administrator used it.",
    fix: "Disable root login over SSH (`PermitRootLogin no`) and have administrators log in with personal accounts \
          and use sudo. Where programs need root, use `forced-commands-only` with a key.",
    judged: "Fails where `PermitRootLogin yes` is in effect and passwords are accepted. Passes with the default since \
             OpenSSH 7.0, which rejects root passwords, and where the root password is locked. Where nothing is set and the \
             version may be older, an information request follows if root has a password.",
    references: &["sshd_config(5), PermitRootLogin"],
    needs: &[Need::Accounts, Need::Ssh],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let groups = identities::root_groups(device);
        for server in device.facts.ssh_servers.iter().filter(|server| server.refused.is_none()) {
            let general = judge(estate, at, server, &groups, None);
            let open = matches!(general, Verdict::Fail(_));
            answers.push(Answer::new(at, Subject::ssh(), general));
            if open {
                continue;
            }
            let conditions = conditions(device, server, &METHODS).into_iter();
            for condition in conditions.filter_map(|one| one.for_user(server, "root", &groups)) {
                let verdict = judge(estate, at, server, &groups, Some(&condition));
                answers.push(Answer::new(at, Subject::ssh().with(condition.key()), verdict));
            }
        }
    }
    answers
}

/// Whether no password fits root's account, as far as it was exported.
fn locked(device: &Device) -> bool {
    device.facts.shadow.iter().any(|one| one.name == "root" && matches!(one.password, StoredPassword::Locked))
}

fn judge(
    estate: &Analyses,
    at: usize,
    server: &SshServer,
    groups: &[String],
    condition: Option<&ShellCondition>,
) -> Verdict {
    let device = &estate.devices[at];
    if let Some(origin) = server.excluded_by("root", groups) {
        return Verdict::pass(origin);
    }
    let root = SshConnection { user: Some("root"), groups, ..SshConnection::default() };
    let connection = condition.map_or(root, ShellCondition::connection);
    let stated = server.stated("permitrootlogin", &connection);
    let Some((_, origin)) = stated.filter(|(value, _)| value.first().is_some_and(|word| word == "yes"))
    else {
        let no = |(value, _): &(Vec<String>, _)| value.first().is_some_and(|word| word == "no");
        let holds =
            || Verdict::pass_setting(&server.effective("permitrootlogin", &connection), server.origin);
        return match server.missing_configuration() {
            // A line that a missing file cannot change.
            Some(missing)
                if missing.unsaid.is_some()
                    && server.stated("permitrootlogin", &connection).as_ref().is_some_and(no) =>
            {
                holds()
            }
            Some(missing) => Verdict::ask_reference(missing, "whether root may log in"),
            None => holds(),
        };
    };
    let ways = ssh_login_paths(estate, at, server, &connection);
    // A stack that was not exported is no protection.
    let by_password = |way: &&SshLoginPath| {
        let kinds = &way.factors.kinds;
        kinds.contains(&FactorKind::Knowledge) || kinds.is_empty()
    };
    let Some(way) = ways.iter().find(by_password).filter(|_| !locked(device)) else {
        let lines = ways.iter().flat_map(|way| way.factors.lines.iter().copied());
        return Verdict::pass_by(lines, origin);
    };
    let from = Reachability::of_ssh(estate, at, server, condition);
    let rating = rated_from(CHECK.rated("a password is among the accepted methods"), &from, estate);
    let sources = condition.map(|condition| condition.sources.join(", ")).filter(|words| !words.is_empty());
    let place = sources.map(|words| format!(" from {words}")).unwrap_or_default();
    let void = if condition.is_none() { server.without_effect("permitrootlogin") } else { Vec::new() };
    let note = without_effect(&void);
    let more = condition.map(|condition| condition.origin).into_iter();
    let lines = [origin].into_iter().chain(more).chain(way.factors.lines.iter().copied()).chain(void);
    Verdict::Fail(Fail {
        rating,
        title: format!("SSH permits root login with a password{place}").into(),
        detail: format!(
            "`PermitRootLogin yes` is in effect on {}, and passwords are accepted.{note}",
            device.name
        )
        .into(),
        evidence: each_once(lines.chain(from.evidence())),
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
            (
                "PermitRootLogin no\nMatch Address 10.4.0.0/16\nPermitRootLogin yes\n",
                "",
                &["pass d", "fail high d sshd_config:3"],
            ),
            (
                "PermitRootLogin no\nMatch LocalPort 2222\nPermitRootLogin yes\nPasswordAuthentication no\n",
                "",
                &["pass d", "pass d"],
            ),
            ("PermitRootLogin no\nMatch User ann\nPermitRootLogin yes\n", "", &["pass d"]),
            ("PermitRootLogin yes\nPermitRootLogin no\n", "", &["fail high d sshd_config:1 sshd_config:2"]),
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

    #[test]
    fn lists_of_clients() {
        const INSIDE: &str = "sshd: 10.4.0.0/255.255.240.0\n";
        const DEBIAN: (&str, &str) = ("d/etc/debian_version", "12.8\n");
        // An interface to the Internet, where everything is accepted.
        const INTERFACE: (&str, &str) = (
            "d/etc/network/interfaces",
            "iface eth0 inet static\n address 203.0.113.5/24\n gateway 203.0.113.1\n",
        );
        const OPEN: (&str, &str) = (
            "d/etc/nftables.conf",
            "table inet f { chain input { type filter hook input priority 0; policy accept; } }\n",
        );
        for (allow, deny, other, wanted) in [
            (INSIDE, "ALL: ALL\n", DEBIAN, "fail medium d sshd_config:1 hosts.allow:1 hosts.deny:1"),
            // The address has bits outside its mask, so that nobody is accepted.
            (
                "sshd: 10.4.0.9/16\n",
                "ALL: ALL\n",
                DEBIAN,
                "fail medium d sshd_config:1 hosts.allow:1 hosts.deny:1",
            ),
            (INSIDE, "# ALL: ALL\n", DEBIAN, "fail high d sshd_config:1"),
            (INSIDE, "vsftpd: ALL\n", DEBIAN, "fail high d sshd_config:1"),
            ("sshd: 10.4. 198.51.100.7\n", "ALL: ALL\n", DEBIAN, "fail high d sshd_config:1"),
            // Built without libwrap, or nothing tells.
            (
                INSIDE,
                "ALL: ALL\n",
                ("d/etc/os-release", "ID=fedora\nVERSION_ID=41\n"),
                "fail high d sshd_config:1",
            ),
            (INSIDE, "ALL: ALL\n", ("d/etc/hostname", "d\n"), "fail high d sshd_config:1"),
        ] {
            let files = [
                ("d/etc/ssh/sshd_config", "PermitRootLogin yes\n"),
                ("d/etc/hosts.allow", allow),
                ("d/etc/hosts.deny", deny),
                other,
            ];
            run(&CHECK, &[(allow, &files, &[wanted])]);
        }
        for (allow, release, wanted) in [
            (INSIDE, "12.8\n", "fail medium d sshd_config:1 hosts.allow:1 hosts.deny:1"),
            (INSIDE, "sid\n", "fail high d sshd_config:1 nftables.conf:1 hosts.allow:1 hosts.deny:1"),
            (
                "sshd: .yard.example\n",
                "12.8\n",
                "fail high d sshd_config:1 nftables.conf:1 hosts.allow:1 hosts.deny:1",
            ),
            (
                "sshd: 198.51.100.7\n",
                "12.8\n",
                "fail high d sshd_config:1 nftables.conf:1 hosts.allow:1 hosts.deny:1",
            ),
            ("sshd: ALL\n", "12.8\n", "fail critical d sshd_config:1 nftables.conf:1"),
        ] {
            let files = [
                ("d/etc/ssh/sshd_config", "PermitRootLogin yes\n"),
                ("d/etc/hosts.allow", allow),
                ("d/etc/hosts.deny", "ALL: ALL\n"),
                ("d/etc/debian_version", release),
                INTERFACE,
                OPEN,
            ];
            run(&CHECK, &[(allow, &files, &[wanted])]);
        }
    }
}
