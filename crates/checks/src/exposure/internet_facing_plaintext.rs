//! A clear-text service is reachable from the Internet.

use crate::check::{Answer, Check, Need, Run};
use crate::exposure::each_exposed;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::relays::relays_of;
use trevlin_analysis::services::{Encrypted, PortKind, Service, What, known_port, sites_at};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Device;
use trevlin_model::served::{Endpoint, Remark, Served, TransportSecurity};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/internet-facing-plaintext",
    area: Area::Exposure,
    title: "Internet-facing clear-text service",
    severity: Severity::Medium,
    why: "Clear-text traffic can be read and changed by any network on the path. Passwords in it are reused against other \
          services.",
    fix: "Offer the encrypted form of the protocol and close this one. Where there is none, place the service behind a VPN.",
    judged: "Fails for each service without encryption that connections from the Internet reach. DNS, NTP, VPN protocols and \
             services with a check of their own are reported there. One level lower for named sources. Passes where none is \
             reachable. Undetermined where a condition not analysed decides. An interface with private addresses faces the \
             Internet only where the estate file says so.",
    references: &["RFC 7258", "PCI DSS 4.0, 4.2.1"],
    needs: &[Need::Addresses, Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let plain = |device: usize, service: &Service| is_plain(&estate.devices[device], service);
    each_exposed(estate, plain, |one| one.judge(CHECK.rating()))
}

/// Whether a service uses clear text, and is not covered by another check.
pub(super) fn is_plain(device: &Device, service: &Service) -> bool {
    let by_files = matches!(service.what, What::Served(..));
    let plain = if by_files {
        sites_at(device, service).iter().any(|one| stays_plain(one, service)) || relays_plain(device, service)
    } else {
        service.port_known().is_some_and(|known| known.encrypted == Encrypted::No)
    };
    let elsewhere =
        matches!(service.kind(), PortKind::Names | PortKind::Time | PortKind::Tunnel | PortKind::Shell)
            || trevlin_analysis::exposure::never_meant(service.kind());
    plain && !elsewhere && (by_files || service.what == What::Socket)
}

/// Whether a service hands connections on to a port whose usual service is not encrypted, without TLS of its own.
fn relays_plain(device: &Device, service: &Service) -> bool {
    relays_of(device, service).filter(|(_, relay)| !relay.is_of_pages()).any(|(_, relay)| {
        let usual = known_port(relay.protocol.0.unwrap_or(6), relay.port);
        let open = relay
            .endpoints
            .iter()
            .any(|at| at.port == service.port && at.carried == TransportSecurity::Optional);
        open && usual.is_some_and(|known| known.encrypted == Encrypted::No)
    })
}

/// Whether clients of a site at this address and port remain unencrypted: encryption is not required, and requests are not redirected.
fn stays_plain(one: &Served, service: &Service) -> bool {
    let here = |place: &&Endpoint| (place.port, place.address) == (service.port, service.address);
    let plain =
        one.endpoints.iter().find(here).is_some_and(|place| place.carried == TransportSecurity::Plain);
    let sends = one.parts.iter().any(|part| part.remark(Remark::Redirect).is_some() && part.name == "/");
    plain && !sends
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing;

    #[test]
    fn sites_by_their_files() {
        const FILE: &str = "gate/etc/nginx/nginx.conf";
        for (inner, wanted) in [
            ("root /a;", "fail medium gate iptables-save.txt:9 nginx.conf:3"),
            ("return 301 https://$host$request_uri;", ""),
        ] {
            let text = format!("http {{\nserver {{\nlisten 80;\n{inner}\n}}\n}}\n");
            let one = testing::Small {
                rules: "-A INPUT -p tcp -j ACCEPT\n",
                more: &[(FILE, &text)],
                ..testing::Small::default()
            };
            assert_eq!(testing::on(&CHECK, &one).join(" "), wanted, "{inner}");
        }
    }

    #[test]
    fn cases() {
        testing::kind(&CHECK, "tcp", 80, "medium", "low");
        testing::kind(&CHECK, "tcp", 554, "medium", "low");
        // Encrypted services, and those with a check of their own, are not reported here.
        for port in [443, 445, 53] {
            let socket = format!("tcp LISTEN 0 9 0.0.0.0:{port} 0.0.0.0:*\n");
            let one = testing::Small {
                rules: "-A INPUT -p tcp -j ACCEPT\n",
                gate: &socket,
                ..testing::Small::default()
            };
            assert!(testing::on(&CHECK, &one).is_empty(), "{port}");
        }
    }
}
