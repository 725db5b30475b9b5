//! `stunnel.conf` (stunnel(8)): services that hand a port on to another through TLS.
//!
//! Lines above the first section are for the program as a whole; their service settings are defaults for every service.

use crate::ini::{Section, before_comment, sections};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::relaying;
use crate::tls::openssl;
use serde::Deserialize;
use std::net::IpAddr;
use trevlin_model::certificate::{CertificateFile, CertificateUse};
use trevlin_model::relay::Relay;
use trevlin_model::served::{AuthRequirement, Endpoint, TransportSecurity};
use trevlin_model::{
    CertificateRequirement, Export, LineClass, Listener, Origin, Protocol, Revocation, Setting, Tunnel,
    TunnelFamily, TunnelRole,
};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "stunnel", title: "TLS relay (stunnel)", manual: "stunnel(8)", recognise, read };

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Options {
    judged: Vec<String>,
    passed_over: Vec<String>,
}

trevlin_model::table! { static OPTIONS: Options = "../tables/stunnel-options.toml"; }

fn recognise(export: &Export) -> Recognition {
    let says = |key: &str| {
        export.lines().any(|line| {
            !line.text.trim_start().starts_with([';', '#'])
                && line.text.split_once('=').is_some_and(|(found, _)| found.trim() == key)
        })
    };
    let section = export.lines().any(|line| line.text.trim_start().starts_with('['));
    if section && says("accept") && (says("connect") || says("exec")) {
        Recognition::Content
    } else if export.file_name() == "stunnel.conf"
        || (export.path().contains("stunnel/") && export.file_name().ends_with(".conf"))
    {
        Recognition::Name
    } else {
        Recognition::No
    }
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let all = sections(export, &[';', '#']);
    for section in &all {
        if !section.name.is_empty() {
            book.understood(section.origin);
        }
        for entry in &section.entries {
            let has = |names: &[String]| names.iter().any(|name| name == entry.key);
            if has(&OPTIONS.judged) {
                book.understood(entry.origin);
            } else if has(&OPTIONS.passed_over) {
                book.class(entry.origin, LineClass::Ignored);
                // Passwords of an outer protocol, and keys of tickets.
                if entry.key.ends_with("Secret") || entry.key == "protocolPassword" {
                    reading.facts.masked_places.push(export.origin_of(entry.value));
                }
            } else {
                book.not_understood(
                    entry.origin,
                    "not an option of stunnel(8); the program does not start with it",
                );
            }
        }
    }
    let Some((global, services)) = all.split_first() else { return reading };
    for service in services {
        let said = Said { service, global };
        let Some(tunnel) = tunnel(export, &said) else { continue };
        reading.facts.relays.extend(relays(&said, &tunnel));
        reading.facts.tunnels.push(tunnel);
    }
    reading
}

/// Settings of one service.
struct Said<'s, 'a> {
    service: &'s Section<'a>,
    global: &'s Section<'a>,
}

impl<'a> Said<'_, 'a> {
    fn get(&self, key: &str) -> Option<(&'a str, Origin)> {
        let entry = self.service.last(key).or_else(|| self.global.last(key))?;
        Some((before_comment(entry.value, &[';']), entry.origin))
    }

    fn all(&self, key: &str) -> Vec<(&'a str, Origin)> {
        let own: Vec<_> = self.service.all(key).map(|entry| (entry.value, entry.origin)).collect();
        if own.is_empty() {
            self.global.all(key).map(|entry| (entry.value, entry.origin)).collect()
        } else {
            own
        }
    }

    fn yes(&self, key: &str) -> Option<Origin> {
        self.get(key).filter(|(value, _)| value.eq_ignore_ascii_case("yes")).map(|(_, origin)| origin)
    }
}

/// The servers that a service hands connections on to.
fn relays(said: &Said<'_, '_>, tunnel: &Tunnel) -> Vec<Relay> {
    // The client's address goes on by the PROXY protocol, or as the source of the packets (stunnel(8), protocol and transparent).
    let proxy = said.get("protocol").filter(|(name, _)| *name == "proxy");
    let transparent =
        said.get("transparent").filter(|(value, _)| matches!(*value, "source" | "both" | "yes"));
    let kept = proxy.or(transparent).map(|(_, origin)| origin);
    let carried = if tunnel.role == TunnelRole::Client {
        TransportSecurity::Optional
    } else {
        TransportSecurity::Encrypted
    };
    let place = |listener: &Listener| {
        let (port, origin) = listener.port.stated()?;
        let at = Endpoint::everywhere(Protocol::TCP, *port, carried, origin);
        Some(match listener.address.value()? {
            Some(address) => at.at(*address),
            None => at,
        })
    };
    let endpoints: Vec<Endpoint> = tunnel.listeners.iter().filter_map(place).collect();
    let login = if tunnel.requires_certificate() {
        Some(AuthRequirement::Certificate)
    } else {
        tunnel.proof.shared_key.map(|_| AuthRequirement::Proof)
    };
    let target = |(text, origin): (&str, Origin)| {
        // A port alone is one of the device itself.
        let own = text.parse().ok().map(|port| ("localhost", port));
        let mut relay =
            Relay::new("stunnel", tunnel.name.clone(), own.or_else(|| relaying::server(text, None))?, origin);
        relay.endpoints.clone_from(&endpoints);
        relay.login = login.filter(|_| tunnel.role == TunnelRole::Server);
        relay.source_kept_origin = kept;
        Some(relay)
    };
    said.all("connect").into_iter().filter_map(target).collect()
}

fn tunnel(export: &Export, said: &Said<'_, '_>) -> Option<Tunnel> {
    let client = said.yes("client").is_some();
    let role = if client { TunnelRole::Client } else { TunnelRole::Server };
    // A service without a port and without a program is selected by name only (`sni`), and part of another.
    let accept = said.get("accept");
    said.get("connect").or_else(|| said.get("exec"))?;
    let mut tunnel = Tunnel::new(
        format!("TLS relay {} ({})", said.service.name, export.file_name()),
        TunnelFamily::TlsRelay,
        role,
        said.service.origin,
    );
    tunnel.listeners.extend(accept.map(|(text, origin)| listener(text, origin)));
    for key in OPTIONS.judged.iter().filter(|key| *key != "options") {
        for (value, origin) in said.all(key) {
            tunnel.settings.push((key.clone(), Setting::Stated { value: value.to_owned(), origin }));
        }
    }
    // Levels above 1 require a certificate (stunnel(8), verify).
    let level = said.get("verify").filter(|(level, _)| level.parse::<u8>().is_ok_and(|level| level >= 2));
    let asked = ["verifyChain", "verifyPeer"]
        .iter()
        .find_map(|key| said.yes(key))
        .or(level.map(|(_, origin)| origin));
    let demand = match asked {
        Some(origin) => Setting::Stated { value: CertificateRequirement::Required, origin },
        None => Setting::default_of(
            CertificateRequirement::NotAsked,
            "stunnel",
            "stunnel(8), verifyChain and verifyPeer",
        ),
    };
    tunnel.proof.certificate = Some(demand);
    // A responder that does not answer refuses the client unless `OCSPrequire` is off (stunnel(8)).
    let list = ["CRLfile", "CRLpath"].iter().find_map(|key| said.get(key));
    let responder = said.get("OCSP").map(|(_, origin)| origin).or_else(|| said.yes("OCSPaia"));
    let lenient = said.get("OCSPrequire").is_some_and(|(value, _)| value.eq_ignore_ascii_case("no"));
    tunnel.proof.revocation = list
        .map(|(_, origin)| Revocation { strict: true, origin })
        .or(responder.map(|origin| Revocation { strict: !lenient, origin }));
    tunnel.proof.shared_key = said.get("PSKsecrets").map(|(_, origin)| origin);
    let options: Vec<String> = said.all("options").into_iter().map(|(value, _)| value.to_owned()).collect();
    let both = said.get("sslVersion").filter(|(value, _)| *value != "all");
    let versions = [said.get("sslVersionMin").or(both), said.get("sslVersionMax").or(both)];
    tunnel.offers.push(openssl(said.get("ciphers"), versions, &options, tunnel.origin));
    for (key, purpose) in [("cert", CertificateUse::Own), ("CAfile", CertificateUse::Authority)] {
        let named = said.get(key);
        tunnel.certificates.extend(named.map(|(path, origin)| CertificateFile {
            purpose,
            path: Some(path.to_owned()),
            origin,
        }));
    }
    Some(tunnel)
}

/// `[HOST:]PORT`; without a host every address.
fn listener(text: &str, origin: Origin) -> Listener {
    let (host, port) = text.rsplit_once(':').map_or((None, text), |(host, port)| (Some(host), port));
    let host = host.map(|host| host.trim_matches(['[', ']'])).filter(|host| !host.is_empty());
    let address = match host.map(str::parse::<IpAddr>) {
        None => Setting::Stated { value: None, origin },
        Some(Ok(address)) if address.is_unspecified() => Setting::Stated { value: None, origin },
        Some(Ok(address)) => Setting::Stated { value: Some(address), origin },
        Some(Err(_)) if host == Some("localhost") => {
            Setting::Stated { value: Some([127, 0, 0, 1].into()), origin }
        }
        Some(Err(_)) => Setting::Unknown { why: "`accept` is a host name".into() },
    };
    let port = match port.parse() {
        Ok(value) => Setting::Stated { value, origin },
        Err(_) => Setting::Unknown { why: format!("`{port}` is a service name") },
    };
    Listener { protocol: Protocol::TCP, address, port }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn services() {
        let text = "; the yard\ncert = /etc/stunnel/a.pem\nsslVersionMin = TLSv1.2\n[quay]\naccept = 8443\nconnect = 10.4.0.9:80\n\n\
                    [inside]\nclient = yes\naccept = 127.0.0.1:9000\nconnect = yard.example:8443\nverifyChain = yes\nsslVersionMin = SSLv3\nwobble = 1\n\
                    [named]\nsni = quay:b.example\n";
        let export = Export::new(ExportId(0), "d/etc/stunnel/stunnel.conf", text.into());
        assert_eq!(recognise(&export), Recognition::Content);
        let reading = read(&export, &ReadContext::default());
        let told: Vec<_> = reading
            .facts
            .tunnels
            .iter()
            .map(|one| {
                let names: Vec<_> = one.offers[0].algorithms.iter().map(|one| one.name.as_str()).collect();
                format!(
                    "{} {:?} {} {:?} {}",
                    one.name,
                    one.role,
                    one.listeners[0].loopback_only(),
                    one.proof.certificate.as_ref().unwrap().value().unwrap(),
                    names.join(" ")
                )
            })
            .collect();
        assert_eq!(
            told,
            [
                "TLS relay quay (stunnel.conf) Server false NotAsked TLSv1.2 TLSv1.3",
                "TLS relay inside (stunnel.conf) Client true Required SSLv3 TLSv1 TLSv1.1 TLSv1.2 TLSv1.3",
            ]
        );
        assert_eq!(reading.ledger.notes.len(), 1);
    }
}
