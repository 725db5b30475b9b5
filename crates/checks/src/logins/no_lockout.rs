//! Passwords may be tried without limit.

use crate::check::{Answer, Check, Fail, Need, Reason, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::client_rules::{ClientRule, client_rule};
use crate::support::login_guards::{Counting, Guarded, Guarding, counting, guarding};
use crate::support::name_of;
use trevlin_analysis::authentication::{lines_of_service, provide_pam, ssh_login_paths};
use trevlin_analysis::map::EstateMap;
use trevlin_analysis::services::{Known, What, services};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::housekeeping::UnitState;
use trevlin_model::policy::Most;
use trevlin_model::ssh::{OPENSSH, SshConnection, SshServer};
use trevlin_model::{Device, FactorKind, Origin, PasswordSource, Protocol, Setting, Tunnel, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/no-lockout",
    area: Area::Logins,
    title: "No limit on failed logins",
    severity: Severity::Medium,
    why: "Automated attacks try passwords continuously. A password that withstands a hundred attempts may not withstand a \
          million.",
    fix: "Lock or delay accounts after repeated failures (`pam_faillock`, `max-ban-score` of ocserv, `reject_delay` of \
          FreeRADIUS). Keep the lockout short enough that attackers cannot lock out legitimate users for long.",
    judged: "Fails where the ban score of the OpenConnect server is disabled, where a RADIUS server rejects without delay, \
             and where a VPN or SSH accepts passwords, no module of its PAM stack locks accounts after failures and no jail of \
             fail2ban or sshguard blocks its ports; one level lower where a certificate or another factor is required as well. \
             Jails do not count where they are off, only report, exempt every address or block other ports than those of the \
             service. Undetermined where the stack was not exported, and where another program that watches the log is \
             installed.",
    references: &["NIST SP 800-63B, 5.2.2", "pam_faillock(8)", "jail.conf(5)", "ocserv(8), max-ban-score"],
    needs: &[Need::Services, Need::Ssh],
    run: Run::Map(run),
};

/// Programs that watch logs and block the sources of failed logins, with their folders of settings.
const WATCHERS: [(&str, &str); 5] = [
    ("fail2ban.service", "/etc/fail2ban/"),
    ("sshguard.service", "/etc/sshguard/"),
    ("denyhosts.service", "/etc/denyhosts"),
    ("crowdsec.service", "/etc/crowdsec/"),
    ("lfd.service", "/etc/csf/"),
];

/// Whether the unit of a program may be on.
fn runs(device: &Device, program: &str) -> bool {
    let unit = format!("{program}.service");
    let mut states = device.facts.units.iter().filter(|one| one.name == unit).peekable();
    states.peek().is_none() || states.any(|one| one.state == UnitState::Enabled)
}

/// Where SSH or a tunnel of a device listens.
fn ports_of(estate: &EstateMap, at: usize, is: impl Fn(What) -> bool) -> Vec<(Protocol, u16)> {
    let all = services(estate, at);
    let here = all.iter().filter(|one| is(one.what) && one.known != Known::Disabled && !one.is_local());
    here.map(|one| (Protocol(Some(one.protocol)), one.port)).collect()
}

/// The program on a device that may limit failed logins, with its place; none where its unit is shown and off.
fn watcher(estate: &EstateMap, device: &Device) -> Option<(&'static str, Origin)> {
    WATCHERS.iter().find_map(|(unit, folder)| {
        let mut states = device.facts.units.iter().filter(|one| one.name == *unit);
        let program = unit.trim_end_matches(".service");
        if let Some(enabled) = states.clone().find(|one| one.state == UnitState::Enabled) {
            return Some((program, enabled.origin));
        }
        let mut files = device.exports.iter().map(|id| estate.export(*id));
        let file = files.find(|export| export.path().contains(folder))?;
        states.next().is_none().then(|| (program, file.origin(0..0)))
    })
}

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let tunnels = device.facts.tunnels.iter().enumerate();
        for (number, tunnel) in tunnels.filter(|(_, tunnel)| tunnel.accepts_clients()) {
            answers.extend(
                by_tunnel(estate, at, number, tunnel)
                    .map(|verdict| Answer::new(at, Subject::tunnel(tunnel), verdict)),
            );
        }
        for server in device.facts.ssh_servers.iter().filter(|server| server.refused.is_none()) {
            let connection = SshConnection::default();
            // Paths that take a password; where every one of them requires a further factor, guessing is not enough.
            let paths = ssh_login_paths(estate, at, server, &connection);
            let by_password =
                || paths.iter().filter(|path| path.factors.kinds.contains(&FactorKind::Knowledge));
            if by_password().next().is_some() && server.may_be_on("usepam", &connection) {
                let said = |keyword: &str| server.effective(keyword, &connection).origin();
                let switch = if server.may_be_on("passwordauthentication", &connection) {
                    "passwordauthentication"
                } else {
                    "kbdinteractiveauthentication"
                };
                let asked_at = said(switch)
                    .or_else(|| said("usepam"))
                    .or_else(|| by_password().find_map(|path| path.factors.lines.first().copied()))
                    .unwrap_or(server.origin);
                let more = by_password().all(|path| path.factors.kinds.len() > 1);
                let ports = ports_of(estate, at, |what| matches!(what, What::Shell(_)));
                let guarded = Guarded { what: "SSH", filters: &["ssh"], ports: &ports };
                // sshd itself refuses sources of failed logins for a time where it is told to (sshd_config(5), PerSourcePenalties).
                let penalties = server.stated("persourcepenalties", &connection);
                let verdict = match penalties {
                    Some((value, origin)) if value.first().is_some_and(|word| word != "no") => {
                        Verdict::pass(origin)
                    }
                    stated => {
                        let verdict = by_pam(estate, device, "sshd", &guarded, asked_at);
                        with_more(by_version(verdict, server, stated.is_some()), more)
                    }
                };
                answers.push(Answer::new(at, Subject::ssh(), verdict));
            }
        }
        for (delay, origin) in device.facts.radius_security.iter().filter_map(|one| one.reject_delay) {
            let verdict = if delay > 0.0 {
                Verdict::pass(origin)
            } else {
                fail(
                    "RADIUS server rejects without delay",
                    "`reject_delay` is 0.",
                    "each attempt costs an attacker no time",
                    origin,
                )
            };
            answers.push(Answer::new(at, Subject::of(SubjectKind::RadiusServer), verdict));
        }
    }
    answers
}

/// What newer versions of sshd do by themselves, which the files do not show.
fn by_version(verdict: Verdict, server: &SshServer, is_stated: bool) -> Verdict {
    match verdict {
        Verdict::Fail(fail) if server.program == OPENSSH && !is_stated => Verdict::Fail(Fail {
            detail: format!(
                "{} OpenSSH from version 9.8 on refuses addresses with failed logins for some seconds; these files do not show \
                 the version.",
                fail.detail
            )
            .into(),
            ..fail
        }),
        other => other,
    }
}

/// A lower severity where the password alone grants no access.
fn with_more(verdict: Verdict, more: bool) -> Verdict {
    match verdict {
        Verdict::Fail(fail) if more => Verdict::Fail(Fail {
            rating: fail.rating.lowered("every login requires a further factor"),
            ..fail
        }),
        other => other,
    }
}

fn fail(title: &str, detail: &str, why: &str, origin: Origin) -> Verdict {
    Verdict::Fail(Fail {
        rating: CHECK.rated(why),
        title: title.into(),
        detail: detail.into(),
        evidence: vec![origin],
    })
}

fn by_tunnel(estate: &EstateMap, at: usize, number: usize, tunnel: &Tunnel) -> Option<Verdict> {
    if let Some(verdict) = by_rule(tunnel) {
        return Some(verdict);
    }
    if tunnel.family == TunnelFamily::OpenConnect {
        // The daemon bans addresses by itself, unless the score is switched off (default 80).
        return match tunnel.setting("max-ban-score") {
            Some(Setting::Stated { value, origin }) if value.trim() == "0" => Some(fail(
                &format!("{} does not ban clients after failed logins", name_of(tunnel)),
                "`max-ban-score` is 0.",
                "its own limit is disabled",
                *origin,
            )),
            Some(setting) => Some(Verdict::pass_setting(setting, tunnel.origin)),
            None => Some(Verdict::pass_default(tunnel.origin, "ocserv(8), max-ban-score")),
        };
    }
    tunnel.proof.passwords.iter().find_map(|check| match &check.source {
        PasswordSource::Pam(service) => {
            let ports = ports_of(estate, at, |what| what == What::Tunnel(number));
            let guarded = Guarded { what: &tunnel.name, filters: filters(tunnel.family), ports: &ports };
            Some(with_more(
                by_pam(estate, &estate.devices[at], service, &guarded, check.origin),
                tunnel.always_requires_certificate(),
            ))
        }
        _ => None,
    })
}

/// As a sheet states it. Where another system verifies the passwords, that one counts the failures unless the device does.
fn by_rule(tunnel: &Tunnel) -> Option<Verdict> {
    let own = |source: &PasswordSource| {
        matches!(source, PasswordSource::LocalList(_) | PasswordSource::LocalListAndCode(_))
    };
    let by_list = tunnel.proof.passwords.iter().any(|check| own(&check.source));
    let about = format!("whether failed logins to {} are limited", name_of(tunnel));
    match client_rule(tunnel, |policy| &policy.failed_logins, &about) {
        ClientRule::Stated(Most(0), origin) => Some(with_more(
            fail(
                &format!("No limit on failed logins to {}", name_of(tunnel)),
                "Neither an account nor an address is locked after failed logins.",
                "any number of passwords can be tried",
                origin,
            ),
            tunnel.always_requires_certificate(),
        )),
        ClientRule::Stated(_, origin) => Some(Verdict::pass(origin)),
        ClientRule::Open(ask) if by_list => Some(ask),
        ClientRule::Open(_) | ClientRule::Native => None,
    }
}

/// Words in the names that administrators give to the patterns for a tunnel.
fn filters(family: TunnelFamily) -> &'static [&'static str] {
    match family {
        TunnelFamily::OpenVpn => &["openvpn", "ovpn", "vpn"],
        TunnelFamily::Ipsec | TunnelFamily::L2tp => &["strongswan", "charon", "ipsec", "ike", "l2tp", "vpn"],
        TunnelFamily::Pptp => &["ppt", "vpn"],
        _ => &["vpn"],
    }
}

fn by_pam(
    estate: &EstateMap,
    device: &Device,
    service: &str,
    guarded: &Guarded<'_>,
    asked_at: Origin,
) -> Verdict {
    let what = guarded.what;
    let lines = match lines_of_service(device, service) {
        Ok(lines) => lines,
        Err(missing) => {
            let by_guard = guarding(device, guarded, |program| runs(device, program));
            if let Some(Guarding::Banned(lines)) = by_guard {
                return Verdict::pass_lines(lines);
            }
            let reason =
                format!("whether failed logins to {what} are limited, unless another program counts them");
            return Verdict::provide(provide_pam(&missing.0), Reason::decides(reason), vec![asked_at])
                .wanting(format!("/etc/pam.d/{missing}"));
        }
    };
    let counting = counting(device, &lines);
    if let Counting::Locks(line) = counting {
        return Verdict::pass(line);
    }
    let title = format!("No limit on failed logins to {what}");
    let (module, own) = match counting {
        Counting::No(why, line) => (why, Some(line)),
        _ => (format!("No module in the PAM stack of `{service}` counts failures."), None),
    };
    match guarding(device, guarded, |program| runs(device, program)) {
        Some(Guarding::Banned(lines)) => Verdict::pass_lines(lines),
        Some(Guarding::NotBanned { program, why, lines }) => {
            let mut evidence = vec![asked_at];
            evidence.extend(own);
            evidence.extend(lines);
            Verdict::Fail(Fail {
                rating: CHECK.rated(format!("{program} is set up and does not limit them")),
                title: title.into(),
                detail: format!("{module} {why}").into(),
                evidence,
            })
        }
        None => {
            if let Some((program, origin)) = watcher(estate, device) {
                let beginning = format!("Please provide the settings of {program} that are in force");
                let reason = Reason::decides(format!("whether failed logins to {what} are limited"));
                return Verdict::provide(beginning, reason, vec![origin, asked_at]);
            }
            let mut verdict = fail(
                &title,
                &format!("{module} A program that watches the log may do so; these files do not show it."),
                "as far as these files show",
                asked_at,
            );
            if let Verdict::Fail(fail) = &mut verdict {
                fail.evidence.extend(own);
            }
            verdict
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const SSH: (&str, &str) = ("d/etc/ssh/sshd_config", "UsePAM yes\nPasswordAuthentication yes\n");
        const PLAIN: (&str, &str) = ("d/etc/pam.d/sshd", "auth required pam_unix.so\n");
        const COUNTED: (&str, &str) = (
            "d/etc/pam.d/sshd",
            "auth required pam_faillock.so preauth\nauth [success=1 default=bad] pam_unix.so\nauth [default=die] pam_faillock.so authfail\nauth required pam_permit.so\n",
        );
        const COMMENTED: (&str, &str) =
            ("d/etc/pam.d/sshd", "#auth required pam_faillock.so preauth\nauth required pam_unix.so\n");
        const KEYS: (&str, &str) = (
            "d/etc/ssh/sshd_config",
            "UsePAM yes\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n",
        );
        const OTHER: (&str, &str) = ("d/etc/ssh/sshd_config", "UsePAM yes\nPasswordAuthentication no\n");
        const BOTH: (&str, &str) =
            ("d/etc/ssh/sshd_config", "UsePAM yes\nAuthenticationMethods publickey,keyboard-interactive\n");
        const JAIL: &str = "[DEFAULT]\nport = 0:65535\nprotocol = tcp\nbanaction = nftables-multiport\nmaxretry = 5\n\
                            action = %(banaction)s[port=\"%(port)s\", protocol=\"%(protocol)s\"]\n[sshd]\nfilter = sshd\nport = ssh\n";
        const JAILS: (&str, &str) = ("d/etc/fail2ban/jail.conf", JAIL);
        const WATCHED: (&str, &str) = ("d/etc/fail2ban/jail.d/ssh.conf", "[sshd]\nenabled = true\n");
        const OTHER_PORT: (&str, &str) =
            ("d/etc/ssh/sshd_config", "Port 2222\nUsePAM yes\nPasswordAuthentication yes\n");
        const PENALTIES: (&str, &str) =
            ("d/etc/ssh/sshd_config", "UsePAM yes\nPerSourcePenalties authfail:30s\n");
        const NO_PENALTIES: (&str, &str) = ("d/etc/ssh/sshd_config", "UsePAM yes\nPerSourcePenalties no\n");
        const fn local(text: &str) -> (&str, &str) {
            ("d/etc/fail2ban/jail.local", text)
        }
        const fn stack(text: &str) -> (&str, &str) {
            ("d/etc/pam.d/sshd", text)
        }
        const UNIT_ON: &str = "UNIT FILE STATE PRESET\nfail2ban.service enabled enabled\n";
        const UNIT_OFF: &str = "UNIT FILE STATE PRESET\nfail2ban.service disabled enabled\n";
        const VPN: (&str, &str) = ("d/etc/pam.d/vpn", "auth required pam_unix.so\n");
        const TUNNEL: (&str, &str) = (
            "d/s.conf",
            "dev tun\nserver 10.8.0.0 255.255.255.0\nca c\ncert c\nkey k\ndh none\nplugin /usr/lib/openvpn/openvpn-plugin-auth-pam.so vpn\n",
        );
        run(
            &CHECK,
            &[
                ("nothing counts", &[SSH, PLAIN], &["fail medium d sshd_config:2"]),
                ("failures are counted", &[SSH, COUNTED], &["pass d"]),
                ("in comments", &[SSH, COMMENTED], &["fail medium d sshd_config:2"]),
                ("a jail", &[SSH, PLAIN, JAILS, WATCHED], &["pass d"]),
                ("a jail, and a stack that is not here", &[SSH, JAILS, WATCHED], &["pass d"]),
                ("no jail is on", &[SSH, PLAIN, JAILS], &["fail medium d sshd_config:2 jail.conf:1"]),
                (
                    "a jail that is switched off",
                    &[SSH, PLAIN, JAILS, WATCHED, local("[sshd]\nenabled = false\n")],
                    &["fail medium d sshd_config:2 jail.local:2"],
                ),
                (
                    "a jail for another port",
                    &[OTHER_PORT, PLAIN, JAILS, WATCHED],
                    &["fail medium d sshd_config:3 jail.conf:9 ssh.conf:2"],
                ),
                (
                    "a jail for the port in use",
                    &[OTHER_PORT, PLAIN, JAILS, WATCHED, local("[sshd]\nport = ssh,2222\n")],
                    &["pass d"],
                ),
                (
                    "a jail that reports",
                    &[SSH, PLAIN, JAILS, WATCHED, local("[sshd]\naction = sendmail[name=x]\n")],
                    &["fail medium d sshd_config:2 ssh.conf:2"],
                ),
                (
                    "a jail that exempts everybody",
                    &[SSH, PLAIN, JAILS, WATCHED, local("[DEFAULT]\nignoreip = ::1 0.0.0.0/0\n")],
                    &["fail medium d sshd_config:2 jail.local:2 ssh.conf:2"],
                ),
                (
                    "a jail of another service",
                    &[SSH, PLAIN, JAILS, local("[pages]\nfilter = nginx-http-auth\nenabled = true\n")],
                    &["fail medium d sshd_config:2 jail.local:1"],
                ),
                (
                    "jails that do not start",
                    &[SSH, PLAIN, JAILS, WATCHED, local("[sshd]\nport = 1\nport = 2\n")],
                    &["fail medium d sshd_config:2 jail.local:3 ssh.conf:2"],
                ),
                (
                    "sshguard",
                    &[SSH, PLAIN, ("d/etc/sshguard/sshguard.conf", "BACKEND=\"/x\"\nLOGREADER=\"y\"\n")],
                    &["pass d"],
                ),
                (
                    "another program that watches the log",
                    &[SSH, PLAIN, ("d/etc/crowdsec/config.yaml", "common:\n  log_level: info\n")],
                    &["ask d"],
                ),
                ("the server's own penalties", &[PENALTIES, PLAIN], &["pass d"]),
                (
                    "the server's own penalties switched off",
                    &[NO_PENALTIES, PLAIN],
                    &["fail medium d sshd_config:1"],
                ),
                (
                    "failures are not recorded",
                    &[SSH, stack("auth required pam_faillock.so preauth\nauth required pam_unix.so\n")],
                    &["fail medium d sshd_config:2 sshd:1"],
                ),
                (
                    "recorded failures lock no account",
                    &[
                        SSH,
                        stack("auth sufficient pam_unix.so\nauth [default=die] pam_faillock.so authfail\n"),
                    ],
                    &["fail medium d sshd_config:2 sshd:2"],
                ),
                (
                    "no number of failures",
                    &[SSH, COUNTED, ("d/etc/security/faillock.conf", "# none\ndeny = 0\n")],
                    &["fail medium d sshd_config:2 faillock.conf:2"],
                ),
                (
                    "a counter without a limit",
                    &[SSH, stack("auth required pam_tally2.so onerr=fail\nauth required pam_unix.so\n")],
                    &["fail medium d sshd_config:2 sshd:1"],
                ),
                ("its unit is on", &[SSH, PLAIN, ("d/units.txt", UNIT_ON)], &["ask d"]),
                (
                    "its unit is off",
                    &[SSH, PLAIN, JAILS, WATCHED, ("d/units.txt", UNIT_OFF)],
                    &["fail medium d sshd_config:2"],
                ),
                ("no stack", &[SSH], &["ask d"]),
                ("no passwords", &[KEYS, PLAIN], &[]),
                ("passwords by the other method", &[OTHER, PLAIN], &["fail medium d sshd_config:1"]),
                ("a key as well", &[BOTH, PLAIN], &["fail low d sshd_config:1"]),
                ("a certificate as well", &[TUNNEL, VPN], &["fail low d s.conf:7"]),
            ],
        );
        for (line, wanted) in [
            ("max-ban-score = 0", "fail medium d ocserv.conf:3"),
            ("max-ban-score = 80", "pass d"),
            ("#max-ban-score = 0", "pass d"),
        ] {
            let text = format!("ipv4-network = 10.9.0.0/24\nauth = plain[passwd=a]\n{line}\n");
            run(&CHECK, &[(line, &[("d/ocserv.conf", &text)], &[wanted])]);
        }
        for (delay, wanted) in [("0", "fail medium d radiusd.conf:2"), ("1", "pass d")] {
            let text = format!("security {{\n\treject_delay = {delay}\n}}\n");
            run(&CHECK, &[(delay, &[("d/radiusd.conf", &text)], &[wanted])]);
        }
    }
}
