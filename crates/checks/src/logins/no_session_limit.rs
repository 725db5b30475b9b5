//! Sessions of a tunnel are not limited.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::client_rules::{ClientRule, client_rule};
use crate::support::name_of;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::assemble::DialIn;
use trevlin_estate::baseline::Baseline;
use trevlin_model::Origin;
use trevlin_model::policy::{Most, Seconds};
use trevlin_model::{PasswordSource, Setting, Tunnel, TunnelFamily, TunnelRole};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/no-session-limit",
    area: Area::Logins,
    title: "No session timeout or concurrent-session limit",
    severity: Severity::Low,
    why: "A session without a timeout stays open on a lost or unattended device. An account with unlimited parallel sessions \
          can be shared or misused unnoticed.",
    fix: "Set an idle timeout of some minutes and a session timeout of a working day. Limit concurrent sessions to one or \
          two for each account.",
    judged: "Fails where neither idle time nor session length is limited, or where the number of concurrent sessions for an \
             account is not; the finding names what is missing. Undetermined where a RADIUS server may send limits, and \
             where configuration is missing from the exports.",
    references: &["NIST SP 800-63B, 4.2.3"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for (number, tunnel) in device.facts.tunnels.iter().enumerate() {
            if tunnel.role == TunnelRole::Server && tunnel.accepts_clients() {
                let verdict = judge(tunnel, estate.dial_in(at, number));
                answers.push(Answer::new(at, Subject::tunnel(tunnel), verdict));
            }
        }
    }
    answers
}

fn judge(tunnel: &Tunnel, dial_in: Option<&DialIn>) -> Verdict {
    if let Some(missing) = tunnel.missing_file() {
        return Verdict::ask_reference(missing, &format!("whether {} limits sessions", name_of(tunnel)));
    }
    if tunnel.policy.is_some() || tunnel.missing_configuration().is_some() {
        return of_appliance(tunnel, dial_in);
    }
    // A number above 0 that is stated; 0 stands for no limit.
    let limit = |name: &str| match tunnel.setting(name) {
        Some(Setting::Stated { value, .. }) => value
            .split(' ')
            .next()
            .and_then(|number| number.parse::<u64>().ok())
            .is_some_and(|number| number > 0),
        _ => false,
    };
    let stated = |name: &str| {
        tunnel.settings.iter().find(|(found, _)| found == name).and_then(|(_, one)| one.origin())
    };
    let mut missing = Vec::new();
    let mut evidence = vec![tunnel.origin];
    let (idle, whole) = match tunnel.family {
        TunnelFamily::OpenVpn => (limit("inactive"), limit("session-timeout")),
        TunnelFamily::OpenConnect => (limit("idle-timeout"), limit("session-timeout")),
        TunnelFamily::Pptp | TunnelFamily::L2tp => {
            let above = |limit: Option<(u32, _)>| limit.is_some_and(|(seconds, _)| seconds > 0);
            dial_in.map_or((false, false), |one| (above(one.profile.idle), above(one.profile.max_connect)))
        }
        // The others have no limit of their own to state.
        _ => return Verdict::DoesNotApply,
    };
    let by_radius = tunnel.proof.passwords.iter().find(|check| check.source == PasswordSource::Radius);
    let unlimited_logins = tunnel.family == TunnelFamily::OpenConnect && !limit("max-same-clients");
    if let Some(check) = by_radius.filter(|_| !idle && !whole && !unlimited_logins) {
        let ask = format!(
            "Please state whether the RADIUS server sends Session-Timeout or Idle-Timeout for every user of {}: its own \
             configuration sets no session limit.",
            name_of(tunnel)
        );
        return Verdict::ask(ask, vec![check.origin]);
    }
    if !idle && !whole && by_radius.is_none() {
        missing.push("no idle or session timeout");
    }
    if unlimited_logins {
        evidence.extend(stated("max-same-clients"));
        missing.push("no concurrent-session limit");
    }
    if missing.is_empty() {
        let limits = ["inactive", "idle-timeout", "session-timeout", "max-same-clients"];
        let of_link = dial_in.map(|one| one.profile.origin);
        return Verdict::pass_by(limits.iter().filter_map(|name| stated(name)).chain(of_link), tunnel.origin);
    }
    fail(tunnel, &missing, "Limits that are not set are off by default.", evidence)
}

/// By the rules for clients that a sheet states; a link's options count as well.
fn of_appliance(tunnel: &Tunnel, dial_in: Option<&DialIn>) -> Verdict {
    if tunnel.family == TunnelFamily::WireGuard && tunnel.policy.is_none() {
        // It has no sessions to limit.
        return Verdict::DoesNotApply;
    }
    let name = &name_of(tunnel);
    let about = format!("whether {name} limits sessions");
    let idle = client_rule(tunnel, |policy| &policy.idle_timeout, &about);
    let whole = client_rule(tunnel, |policy| &policy.session_timeout, &about);
    let users = format!("the number of concurrent sessions of one user of {name}");
    let users = client_rule(tunnel, |policy| &policy.sessions_per_user, &users);
    let of_link = |limit: Option<(u32, _)>| limit.is_some_and(|(seconds, _)| seconds > 0);
    let by_link = dial_in.is_some_and(|one| of_link(one.profile.idle) || of_link(one.profile.max_connect));
    let is_set = |rule: &ClientRule<'_, Seconds>| matches!(rule, ClientRule::Stated(Seconds(1..), _));
    let stated = |rule: &ClientRule<'_, Seconds>| match rule {
        ClientRule::Stated(Seconds(1..), origin) => Some(*origin),
        _ => None,
    };
    let of_users = match &users {
        ClientRule::Stated(Most(1..), origin) => Some(*origin),
        _ => None,
    };
    let limits: Vec<Origin> = [stated(&idle), stated(&whole), of_users].into_iter().flatten().collect();
    let mut missing = Vec::new();
    let mut evidence = Vec::new();
    let mut open = None;
    if !(by_link || is_set(&idle) || is_set(&whole)) {
        match (idle, whole) {
            (ClientRule::Stated(_, first), ClientRule::Stated(_, second)) => {
                missing.push("no idle or session timeout");
                evidence.extend([first, second]);
            }
            (ClientRule::Open(ask), _) | (_, ClientRule::Open(ask)) => open = Some(ask),
            _ => {}
        }
    }
    match users {
        ClientRule::Stated(Most(0), origin) => {
            missing.push("no concurrent-session limit");
            evidence.push(origin);
        }
        ClientRule::Open(ask) => open = open.or(Some(ask)),
        _ => {}
    }
    match open {
        _ if !missing.is_empty() => fail(tunnel, &missing, "The limits are switched off.", evidence),
        Some(ask) => ask,
        None => Verdict::pass_by(limits, tunnel.origin),
    }
}

fn fail(tunnel: &Tunnel, missing: &[&str], detail: &str, evidence: Vec<Origin>) -> Verdict {
    Verdict::Fail(Fail {
        rating: CHECK.rated("it assists an attacker who already has access"),
        title: format!("{} has {}", name_of(tunnel), missing.join(" and ")).into(),
        detail: detail.to_owned().into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (lines, wanted) in [
            ("inactive 600", "pass d"),
            ("session-timeout 28800", "pass d"),
            ("inactive 0", "fail low d s.conf:2"),
            ("#inactive 600", "fail low d s.conf:2"),
            ("config more.conf", "ask d"),
        ] {
            let text =
                format!("dev tun\nserver 10.8.0.0 255.255.255.0\nca c\ncert c\nkey k\ndh none\n{lines}\n");
            run(&CHECK, &[(lines, &[("d/s.conf", &text)], &[wanted])]);
        }
        for (lines, wanted) in [
            ("idle-timeout = 600\nmax-same-clients = 2", "pass d"),
            ("idle-timeout = 600\nmax-same-clients = 0", "fail low d ocserv.conf:2 ocserv.conf:4"),
            ("max-same-clients = 2", "fail low d ocserv.conf:2"),
        ] {
            let text = format!("ipv4-network = 10.9.0.0/24\nauth = plain[passwd=a]\n{lines}\n");
            run(&CHECK, &[(lines, &[("d/ocserv.conf", &text)], &[wanted])]);
        }
        let radius =
            ("d/ocserv.conf", "ipv4-network = 10.9.0.0/24\nauth = radius[config=/x]\nmax-same-clients = 2\n");
        run(&CHECK, &[("a RADIUS server may say", &[radius], &["ask d"])]);
        const SERVER: (&str, &str) = ("d/pptpd.conf", "option /etc/ppp/options\nremoteip 10.4.0.9\n");
        for (options, wanted) in [
            ("require-mschap-v2\nidle 600\n", "pass d"),
            ("require-mschap-v2\n", "fail low d pptpd.conf:2"),
            ("require-mschap-v2\nidle 0\n", "fail low d pptpd.conf:2"),
        ] {
            run(&CHECK, &[(options, &[SERVER, ("d/ppp/options", options)], &[wanted])]);
        }
    }
}
