//! A port forward from the Internet leads to a port without a service.

use crate::check::{Addressee, Answer, Check, Fail, Need, Run, Verdict};
use crate::exposure::each_forward;
use crate::logins::capital;
use crate::support::{StatePart, provide};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::{ForwardOutcome, ForwardResult};
use trevlin_analysis::services::Service;
use trevlin_analysis::ways::cited;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Origin;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/port-forward-unused",
    area: Area::Exposure,
    title: "Port forward to a port without a service",
    severity: Severity::Low,
    why: "The service is gone and the opening remains. Any program on that host that later uses the port is exposed to the \
          Internet.",
    fix: "Remove the forward and the rule that permits it.",
    judged: "Fails for each port forward to a device whose exported sockets show no listener on the port. Passes where one \
             listens. Fails as well where a configured service of that device has the port with another transport protocol, or \
             the public port of the forward in place of the inner one. Undetermined where the sockets were not exported and no file shows the service.",
    references: &["NIST SP 800-41 Rev. 1, 5.2"],
    needs: &[Need::Addresses, Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_forward(estate, |one, name| match &one.outcome {
        ForwardOutcome::NothingServes { device, certain } => {
            let inner = &estate.devices[*device].name;
            let port = one.port.map(|port| format!(" port {port}")).unwrap_or_default();
            if let Some(other) = near_miss(estate, one, *device) {
                return Verdict::Fail(Fail {
                    rating: CHECK.rated("connections do not reach the intended service"),
                    title: format!("{} leads to {inner}{port}, where no service listens", capital(name))
                        .into(),
                    detail: format!(
                        "{} of {inner} listens on {}: {}.",
                        capital(&other.name),
                        other.at,
                        other.cause
                    )
                    .into(),
                    evidence: [one.origin].into_iter().chain(other.origin).collect(),
                });
            }
            if !certain {
                let question = format!(
                    "{}: {name} leads to {inner}{port}, and no file shows which service listens there.",
                    provide(estate, *device, &[StatePart::Sockets])
                );
                return Verdict::ask(question, vec![one.origin]).addressed_to(Addressee::Device(*device));
            }
            Verdict::Fail(Fail {
                rating: CHECK.rated("no service listens there at present"),
                title: format!("{name} leads to {inner}{port}, where no service listens").into(),
                detail: format!(
                    "Connections from the Internet are permitted to {inner}, and none of its sockets listens there."
                ).into(),
                evidence: [one.origin].into_iter().chain(cited(&one.steps)).collect(),
            })
        }
        ForwardOutcome::Service(_) => Verdict::pass(one.origin),
        _ => Verdict::DoesNotApply,
    })
}

/// A service that a forward misses by its protocol or its port.
struct NearMiss {
    name: String,
    /// Where it listens, as `udp 1194`.
    at: String,
    cause: &'static str,
    origin: Option<Origin>,
}

/// The service of the device that has the forward's port with another protocol, or its public port in place of the inner one.
fn near_miss(estate: &Analyses, one: &ForwardResult, device: usize) -> Option<NearMiss> {
    let port = one.port?;
    let services = &estate.internet().services[device];
    let known = |service: &&Service| service.configured.is_some() && !service.is_local();
    let by_protocol = services
        .iter()
        .filter(known)
        .find(|service| service.port == port && Some(service.protocol) != one.protocol)
        .map(|service| (service, "the protocol of the forward is another one"));
    let public = |service: &&Service| {
        Some(service.protocol) == one.protocol
            && service.port != port
            && one.called_ports.iter().any(|range| range.first == range.last && range.first == service.port)
    };
    let by_port = || {
        services.iter().filter(known).find(public).map(|service| (service, "the forward changes the port"))
    };
    let (service, cause) = by_protocol.or_else(by_port)?;
    Some(NearMiss { name: service.name.clone(), at: service.endpoint(), cause, origin: service.origin() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, on};

    #[test]
    fn cases() {
        let forwards = "-A PREROUTING -i eth0 -p tcp --dport 8443 -j DNAT --to-destination 10.4.0.20:443\n";
        let rules = "-A FORWARD -d 10.4.0.20 -p tcp --dport 443 -j ACCEPT\n";
        let base = Small { forwards, rules, ..Small::default() };
        let socket = |address: &str, port: u16| format!("tcp LISTEN 0 9 {address}:{port} 0.0.0.0:*\n");
        for (server, wanted) in [
            (socket("0.0.0.0", 443), "pass gate"),
            (
                socket("127.0.0.1", 443),
                "fail low gate iptables-save.txt:3 iptables-save.txt:3 iptables-save.txt:10",
            ),
            (
                socket("0.0.0.0", 22),
                "fail low gate iptables-save.txt:3 iptables-save.txt:3 iptables-save.txt:10",
            ),
            (String::new(), "ask gate"),
        ] {
            assert_eq!(on(&CHECK, &Small { server: &server, ..base }), [wanted], "{server}");
        }
    }

    #[test]
    fn a_forward_that_misses_the_service() {
        let forward = |protocol: &str, port: &str| {
            format!(
                "-A PREROUTING -i eth0 -p {protocol} --dport 1194 -j DNAT --to-destination 10.4.0.20{port}\n"
            )
        };
        let rules = "-A FORWARD -d 10.4.0.20 -j ACCEPT\n";
        let vpn =
            ("server/etc/openvpn/s.conf", "dev tun\nproto udp\nport 1194\nserver 10.8.0.0 255.255.255.0\n");
        for (protocol, port, wanted) in [
            ("tcp", "", "fail low gate iptables-save.txt:3 s.conf:3"),
            ("udp", ":1195", "fail low gate iptables-save.txt:3 s.conf:3"),
            ("udp", "", "pass gate"),
        ] {
            let forwards = forward(protocol, port);
            let more = [vpn];
            let small = Small { forwards: &forwards, rules, more: &more, ..Small::default() };
            assert_eq!(on(&CHECK, &small), [wanted], "{protocol} {port}");
        }
    }
}
