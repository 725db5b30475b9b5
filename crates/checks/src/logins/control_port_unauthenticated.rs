//! A control interface accepts commands without authentication.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, is_few, of_device};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::{Baseline, Thresholds};
use trevlin_model::Setting;
use trevlin_model::served::{AuthRequirement, Remark, ServedKind, ServiceResource};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/control-port-unauthenticated",
    area: Area::Logins,
    title: "Control interface without authentication",
    severity: Severity::High,
    why: "Any client that reaches the interface can disable backends, flush caches and change responses; through a monitoring agent it runs \
          programs on the device, and through a remote desktop it has the screen and the keyboard. Without a login, changes cannot be attributed to a user.",
    fix: "Bind the control interface to the loopback address or a Unix socket, and require a certificate or a login. \
          Deny commands of monitoring agents (`DenyKey=system.run[*]`, `dont_blame_nrpe=0`), give a remote desktop a password and TLS, and \
          replace rsh and rlogin by SSH.",
    judged: "Fails for each port or page that accepts commands for a running service without a login, beyond the device \
             itself, and for each monitoring agent that runs commands for other hosts, remote desktop without a login, and command \
             line that trusts the address of the client (rsh, rlogin). Passes where a certificate or password is \
             required, and on the loopback address. Undetermined where an included file of a DNS server is missing, and where the build \
             of an agent decides.",
    references: &[
        "unbound.conf(5), control-use-cert",
        "HAProxy Configuration Manual, stats admin",
        "NIST SP 800-123, 6.4",
    ],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in (0..estate.devices.len()).flat_map(|device| of_device(estate, device)) {
        if one.served.kind == ServedKind::Names && !one.served.parts.iter().any(takes_commands) {
            answers.extend(one.open_answer());
        }
        for part in one.served.parts.iter().filter(|part| takes_commands(part)) {
            answers.push(Answer::new(
                one.device,
                Subject::part(one.served, part),
                judge(one, part, baseline.at(one.device)),
            ));
        }
    }
    answers
}

fn takes_commands(part: &ServiceResource) -> bool {
    let steers = part.remark(Remark::Administration).is_some() && part.is_written();
    steers || part.remark(Remark::Commands).is_some() || matches!(part.writes, Setting::Unknown { .. })
}

fn judge(one: ServiceCase<'_>, part: &ServiceResource, thresholds: &Thresholds) -> Verdict {
    let trusts = part.login.value() == Some(&AuthRequirement::Address);
    if !trusts && part.login.value() != Some(&AuthRequirement::Nothing) {
        return one.holds_by_login(part);
    }
    if one.served.is_local() || is_few(&part.sources, thresholds) {
        return one.holds_by_limit(part);
    }
    if let Setting::Unknown { why } = &part.writes {
        let question =
            format!("Please state whether {} runs commands for other hosts: {why}.", one.part(part));
        return Verdict::ask(question, part.lines());
    }
    one.fail(
        one.limited(CHECK.rating(), &part.sources),
        part,
        match trusts {
            true => format!("{} accepts commands by the address of the client", one.part(part)),
            false => format!("{} accepts commands without a login", one.part(part)),
        },
        match trusts {
            true => format!(
                "Hosts and users that a list of the server names need no password (`hosts.equiv`, `.rhosts`). Permitted sources: {}.",
                part.sources.words()
            ),
            false => format!("Permitted sources: {}.", part.sources.words()),
        },
        part.lines().into_iter().chain(part.remark(Remark::Commands)).collect(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const STATS: &str = "frontend f\n mode http\n bind :8404\n stats enable\n stats admin if TRUE\n";
        const CONTROL: &str =
            "server:\n port: 53\nremote-control:\n control-enable: yes\n control-interface: 0.0.0.0\n";
        for (file, text, wanted) in [
            ("haproxy.cfg", STATS.to_owned(), &["fail high d haproxy.cfg:4 haproxy.cfg:5"][..]),
            ("haproxy.cfg", format!("{STATS} stats auth ann:x\n"), &["pass d"]),
            ("haproxy.cfg", STATS.replace(":8404", "127.0.0.1:8404"), &["pass d"]),
            (
                "unbound.conf",
                format!("{CONTROL} control-use-cert: no\n"),
                &["fail high d unbound.conf:4 unbound.conf:6"],
            ),
            ("named.conf", "include \"/etc/bind/more.conf\";\noptions { };\n".to_owned(), &["ask d"]),
            ("unbound.conf", CONTROL.to_owned(), &["pass d"]),
            ("unbound.conf", CONTROL.replace("0.0.0.0", "127.0.0.1"), &["pass d"]),
        ] {
            run(&CHECK, &[(&text, &[(&format!("d/etc/unbound/{file}"), &text)], wanted)]);
        }
    }

    #[test]
    fn desktops_and_command_lines() {
        for (file, text, wanted) in [
            (
                "systemd/system/screen.service",
                "[Service]\nExecStart=/usr/bin/x11vnc -nopw\n",
                &["fail high d screen.service:2"][..],
            ),
            (
                "systemd/system/screen.service",
                "[Service]\nExecStart=/usr/bin/x11vnc -nopw -localhost\n",
                &["pass d"],
            ),
            (
                "systemd/system/screen.service",
                "[Service]\nExecStart=/usr/bin/x11vnc -rfbauth /etc/pw\n",
                &["pass d"],
            ),
            (
                "systemd/system/screen.service",
                "[Service]\nExecStart=/usr/bin/Xvnc :1 -SecurityTypes None\n",
                &["fail high d screen.service:2"],
            ),
            (
                "systemd/system/screen.service",
                "[Service]\nExecStart=/usr/bin/Xvnc :1 -SecurityTypes TLSVnc\n",
                &["pass d"],
            ),
            // Its wrapper refuses it.
            (
                "systemd/system/screen.service",
                "[Service]\nExecStart=/usr/bin/tigervncserver :1 -localhost no -SecurityTypes None\n",
                &[],
            ),
            (
                "inetd.conf",
                "shell stream tcp nowait root /usr/sbin/in.rshd in.rshd\n",
                &["fail high d inetd.conf:1"],
            ),
            ("inetd.conf", "127.0.0.1:shell stream tcp nowait root /usr/sbin/in.rshd in.rshd\n", &["pass d"]),
            ("inetd.conf", "#<off># shell stream tcp nowait root /usr/sbin/in.rshd in.rshd\n", &[]),
        ] {
            run(&CHECK, &[(text, &[(&format!("d/etc/{file}"), text)], wanted)]);
        }
    }

    #[test]
    fn agents_that_run_commands() {
        const AGENT: &str = "zabbix/zabbix_agentd.conf";
        const HELD: (&str, &str) = ("d/etc/sysconfig/nrpe", "NRPE_SSL_OPT=\"\"\n");
        for (file, text, more, wanted) in [
            (
                AGENT,
                "Server=0.0.0.0/0\nAllowKey=system.run[*]\n",
                None,
                &["fail high d zabbix_agentd.conf:1 zabbix_agentd.conf:2"][..],
            ),
            (AGENT, "Server=0.0.0.0/0\nDenyKey=system.run[*]\nAllowKey=system.run[*]\n", None, &[]),
            (AGENT, "Server=10.4.0.9\nEnableRemoteCommands=1\n", None, &["pass d"]),
            (AGENT, "Server=0.0.0.0/0\n", None, &[]),
            ("nagios/nrpe.cfg", "dont_blame_nrpe=1\n", Some(HELD), &["fail high d nrpe.cfg:1"]),
            ("nagios/nrpe.cfg", "dont_blame_nrpe=1\n", None, &["ask d"]),
            ("nagios/nrpe.cfg", "allowed_hosts=10.4.0.9\ndont_blame_nrpe=1\n", Some(HELD), &["pass d"]),
            // Debian's build has no arguments.
            (
                "nagios/nrpe.cfg",
                "dont_blame_nrpe=1\n",
                Some(("d/etc/default/nagios-nrpe-server", "NRPE_OPTS=\"\"\n")),
                &[],
            ),
            (
                "monit/monitrc",
                "set httpd port 2812\n    allow 10.4.0.0/20\n",
                None,
                &["fail medium d monitrc:1 monitrc:2"],
            ),
            (
                "monit/monitrc",
                "set httpd port 2812\n    allow 10.4.0.0/20\n    allow ann:Anker-7-Mole\n",
                None,
                &["pass d"],
            ),
            (
                "monit/monitrc",
                "set httpd port 2812 and use address localhost\n    allow localhost\n",
                None,
                &["pass d"],
            ),
        ] {
            let name = format!("d/etc/{file}");
            let mut files = vec![(name.as_str(), text)];
            files.extend(more);
            run(&CHECK, &[(text, &files, wanted)]);
        }
    }
}
