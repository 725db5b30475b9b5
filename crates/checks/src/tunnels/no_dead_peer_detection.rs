//! Dead peers of a tunnel are not detected.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::client_rules::{ClientRule, client_rule};
use crate::support::name_of;
use crate::tunnels::{ipsec, openvpn};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::ipsec::IpsecConnection;
use trevlin_model::policy::Seconds;
use trevlin_model::{Setting, Tunnel, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/no-dead-peer-detection",
    area: Area::Tunnels,
    title: "No dead-peer detection",
    severity: Severity::Low,
    why: "Without dead-peer detection a vanished client keeps its address and session, and traffic to an unavailable site is \
          lost until keys expire. Users then request permanent workarounds.",
    fix: "Enable dead-peer detection: `dpd_delay = 30s` (swanctl.conf), `dpdaction=clear` and `dpddelay=30s` \
          (ipsec.conf), `keepalive 10 60` (OpenVPN).",
    judged: "Fails for IPsec connections without DPD (the default of all daemons), for OpenVPN servers with neither \
             `keepalive` nor `ping` with a timeout, and for OpenConnect servers with `dpd = 0`. WireGuard does not need it.",
    references: &["RFC 7296, 2.4", "RFC 3706", "swanctl.conf(5), dpd_delay", "openvpn(8), --keepalive"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = ipsec(estate, |_, _, tunnel, connection| of_connection(tunnel, connection));
    answers.extend(openvpn(estate, Tunnel::accepts_clients, |_, tunnel| of_server(tunnel)));
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.running().filter(|one| one.family == TunnelFamily::OpenConnect) {
            let off = tunnel.stated("dpd").filter(|(value, _)| *value == "0");
            let verdict = match (off, tunnel.setting("dpd")) {
                (Some((_, origin)), _) => fail(tunnel, "`dpd` is 0.", " Setting: `dpd = 90`.", origin),
                (None, Some(setting)) => Verdict::pass_setting(setting, tunnel.origin),
                (None, None) => Verdict::pass_default(tunnel.origin, "ocserv(8), dpd"),
            };
            answers.push(Answer::new(at, Subject::tunnel(tunnel), verdict));
        }
    }
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in
            device.facts.running().filter(|one| one.family == TunnelFamily::Tls && one.accepts_clients())
        {
            answers.push(Answer::new(
                at,
                Subject::tunnel(tunnel),
                of_appliance(tunnel).unwrap_or_else(|| Verdict::pass(tunnel.origin)),
            ));
        }
    }
    answers.sort_by_key(|answer| answer.device);
    answers
}

/// As a sheet states it.
fn of_appliance(tunnel: &Tunnel) -> Option<Verdict> {
    let about = format!("whether {} uses dead-peer detection", name_of(tunnel));
    match client_rule(tunnel, |policy| &policy.keepalive, &about) {
        ClientRule::Stated(Seconds(0), origin) => Some(fail(tunnel, "It is disabled.", "", origin)),
        ClientRule::Stated(_, origin) => Some(Verdict::pass(origin)),
        ClientRule::Open(ask) => Some(ask),
        ClientRule::Native => None,
    }
}

fn fail(tunnel: &Tunnel, detail: &str, advice: &str, origin: trevlin_model::Origin) -> Verdict {
    Verdict::Fail(Fail {
        rating: CHECK.rated("it gives no access by itself"),
        title: format!("{} has no dead-peer detection", name_of(tunnel)).into(),
        detail: format!("{detail}{advice}").into(),
        evidence: vec![origin],
    })
}

fn of_connection(tunnel: &Tunnel, connection: &IpsecConnection) -> Verdict {
    if !connection.negotiates() {
        return Verdict::DoesNotApply;
    }
    let advice = &connection.daemon.advice("dpd_delay = 30s` or `dpdaction=clear", "dpddelay=30");
    match &connection.liveness {
        Setting::Unknown { why } => Verdict::ask(
            format!("Please state whether {} uses dead-peer detection ({why}).", name_of(tunnel)),
            vec![tunnel.origin],
        ),
        liveness if liveness.value() != Some(&0) => Verdict::pass_setting(liveness, tunnel.origin),
        Setting::Stated { origin, .. } => fail(tunnel, "It is disabled.", advice, *origin),
        _ => {
            fail(tunnel, "Nothing is set, and dead-peer detection is off by default.", advice, tunnel.origin)
        }
    }
}

fn of_server(tunnel: &Tunnel) -> Verdict {
    if let Some(verdict) = of_appliance(tunnel) {
        return verdict;
    }
    let has = |name: &str| tunnel.setting(name).is_some();
    if has("keepalive") || (has("ping") && (has("ping-restart") || has("ping-exit"))) {
        let lines = ["keepalive", "ping"].iter().filter_map(|name| tunnel.setting(name)?.origin());
        return Verdict::pass_by(lines, tunnel.origin);
    }
    match super::stated_or_missing(tunnel, &["keepalive"], "uses dead-peer detection") {
        Some(verdict) => verdict,
        None => fail(tunnel, "`keepalive` is not set.", " Setting: `keepalive 10 60`.", tunnel.origin),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (lines, wanted) in [
            ("", "fail low d ipsec.conf:1"),
            ("dpdaction=none", "fail low d ipsec.conf:3"),
            ("dpdaction=clear", "pass d"),
            ("ikev2=insist\n\tdpddelay=30", "pass d"),
            ("ikev2=insist\n\tdpdaction=clear", "fail low d ipsec.conf:1"),
        ] {
            let text = format!("conn c\n\tauto=add\n\t{lines}\n");
            run(&CHECK, &[(lines, &[("d/ipsec.conf", &text)], &[wanted])]);
        }
        for (lines, wanted) in [
            ("", "fail low d s.conf:2"),
            ("keepalive 10 60", "pass d"),
            ("ping 10", "fail low d s.conf:2"),
            ("ping 10\nping-restart 60", "pass d"),
            ("#keepalive 10 60", "fail low d s.conf:2"),
            ("config more.conf", "ask d"),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{lines}\n");
            run(&CHECK, &[(lines, &[("d/s.conf", &text)], &[wanted])]);
        }
        let swanctl = "connections {\n c {\n  dpd_delay = 30s\n }\n}\n";
        run(&CHECK, &[("swanctl", &[("d/swanctl.conf", swanctl)], &["pass d"])]);
    }
}
