//! A daemon's management port requires one factor or none.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::rated::rated_from;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::management::ManagementPort;
use trevlin_analysis::reachability_from::Reachability;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Protocol;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/management-single-factor",
    area: Area::Logins,
    title: "Management interface with single-factor or no login",
    severity: Severity::High,
    why: "The management interface of a VPN server lists sessions, disconnects clients and can authorise them. Its traffic \
          is not encrypted, and at most one password protects it.",
    fix: "Use a Unix socket with restricted permissions (`management PATH unix`), or 127.0.0.1 with a password file, and \
          reach it over SSH.",
    judged: "Fails where the interface listens beyond the device itself; one level higher without a password file. Fails at \
             low on the loopback address without a password file. Passes for Unix sockets and for `management-client`. \
             Undetermined where a host name replaces the address.",
    references: &["openvpn(8), --management"],
    needs: &[Need::Accounts, Need::Services, Need::Ssh],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.tunnels.iter().filter(|one| one.refused.is_none()) {
            if let Some(port) = ManagementPort::of(tunnel) {
                answers.push(Answer::new(
                    at,
                    Subject::tunnel(tunnel),
                    judge(estate, at, &tunnel.name, &port),
                ));
            }
        }
    }
    answers
}

fn judge(estate: &Analyses, at: usize, tunnel: &str, port: &ManagementPort<'_>) -> Verdict {
    if port.is_socket() {
        return Verdict::pass(port.origin);
    }
    let (password, origin) = (port.password, port.origin);
    let number = port.port.parse().unwrap_or_default();
    let reachability_from = Reachability::of(estate, at, Protocol::TCP, number);
    let fail = |severity: Severity, why: &str, detail: &str| {
        let rating = CHECK.rated_at(severity, why);
        // Access from the device itself only is independent of its surroundings.
        let rating = match &reachability_from {
            _ if port.is_local() == Some(true) => rating,
            Reachability::Everybody(_) | Reachability::Inside => {
                rated_from(rating, &reachability_from, estate)
            }
            _ => rating,
        };
        let guard = if password { "with a password only" } else { "without a password" };
        Verdict::Fail(Fail {
            rating,
            title: format!("Management interface of {tunnel} is open to the network {guard}").into(),
            detail: detail.into(),
            evidence: [origin].into_iter().chain(reachability_from.evidence()).collect(),
        })
    };
    let Some(itself) = port.is_local() else {
        let ask = format!(
            "Please state the address that this host name resolves to: it is where the management interface of {tunnel} \
             listens."
        );
        return Verdict::ask(ask, vec![origin]);
    };
    match (itself, password) {
        (true, true) => Verdict::pass(origin),
        (true, false) => fail(
            Severity::Low,
            "reachable from the device itself only",
            "Any program on the device may use it.",
        ),
        (false, true) => fail(
            CHECK.severity,
            "reachable over the network",
            "One factor is required, and it is sent in clear text.",
        ),
        (false, false) => fail(
            Severity::Critical,
            "reachable over the network without authentication",
            "No authentication is required.",
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (line, wanted) in [
            ("management 0.0.0.0 7505", &["fail critical d s.conf:7"][..]),
            ("management 10.4.0.9 7505 /etc/openvpn/pw", &["fail high d s.conf:7"]),
            ("management 127.0.0.1 7505", &["fail low d s.conf:7"]),
            ("management localhost 7505 /etc/openvpn/pw", &["pass d"]),
            ("management /run/openvpn/desks.sock unix", &["pass d"]),
            ("management gate.example 7505", &["ask d"]),
            ("#management 0.0.0.0 7505", &[]),
            ("management 10.4.0.9 7505\nmanagement-client", &[]),
        ] {
            let text =
                format!("dev tun\nserver 10.8.0.0 255.255.255.0\nca c\ncert c\nkey k\ndh none\n{line}\n");
            run(&CHECK, &[(line, &[("d/s.conf", &text)], wanted)]);
        }
    }
}
