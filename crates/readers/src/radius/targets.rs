//! RADIUS servers that a device uses: the lists of `pam_radius_auth` (pam_radius_auth(8)), of the radiusclient library
//! (radiusclient.conf(5)) and of OpenVPN's plug-in.

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use std::net::IpAddr;
use std::sync::Arc;
use trevlin_model::radius::{RadiusAsker, RadiusTarget};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, LineClass, Origin, Secret, SecretRecord};

/// Lists with a server and its secret on a line.
pub(crate) const LIST: Reader = Reader {
    name: "radius-servers",
    title: "RADIUS client configuration",
    manual: "pam_radius_auth.conf, radiusclient's servers",
    recognise: |export| {
        if asker(export).is_some() && telling(export).all(is_pair) {
            Recognition::Name
        } else {
            Recognition::No
        }
    },
    read: read_list,
};

/// The configuration of the radiusclient library.
pub(crate) const LIBRARY: Reader = Reader {
    name: "radius-client",
    title: "RADIUS client library",
    manual: "radiusclient.conf(5)",
    recognise: |export| {
        let has = |word: &str| telling(export).any(|text| text.split_whitespace().next() == Some(word));
        if has("authserver") && (has("servers") || has("dictionary") || has("acctserver")) {
            Recognition::Content
        } else {
            Recognition::No
        }
    },
    read: read_library,
};

/// The configuration of OpenVPN's plug-in.
pub(crate) const PLUG_IN: Reader = Reader {
    name: "openvpn-radius",
    title: "RADIUS plug-in of OpenVPN",
    manual: "README of the plug-in",
    recognise: |export| {
        let has = |word: &str| telling(export).any(|text| text.replace(' ', "").starts_with(word));
        if has("sharedsecret=") && has("server") { Recognition::Content } else { Recognition::No }
    },
    read: read_plug_in,
};

fn telling(export: &Export) -> impl Iterator<Item = &str> {
    export
        .lines()
        .take(TELLING_LINES)
        .map(|line| line.text.trim())
        .filter(|text| !text.is_empty() && !text.starts_with('#'))
}

/// Who keeps such a list, by its name.
fn asker(export: &Export) -> Option<RadiusAsker> {
    let (path, name) = (export.path(), export.file_name());
    if name.starts_with("pam_radius") || name == "raddb-server" || path.ends_with("raddb/server") {
        Some(RadiusAsker::Pam)
    } else if name == "servers" && (path.contains("radiusclient") || path.contains("radcli/")) {
        Some(RadiusAsker::Library)
    } else {
        None
    }
}

fn is_pair(text: &str) -> bool {
    text.split_whitespace().count() >= 2 && !text.contains(['{', '=']) || text.contains(':')
}

/// A host or an address with or without a port: `10.4.0.9:1812`, `[2001:db8::9]:1812`.
fn address(text: &str) -> Option<IpAddr> {
    text.parse().ok().or_else(|| {
        let host = match text.strip_prefix('[') {
            Some(rest) => rest.split(']').next()?,
            None => text.split(':').next()?,
        };
        host.parse().ok()
    })
}

fn target(
    asked_by: RadiusAsker,
    server: &str,
    secret: Option<Arc<SecretRecord>>,
    origin: Origin,
) -> RadiusTarget {
    RadiusTarget { asked_by, server: server.to_owned(), address: address(server), secret, origin }
}

fn hold(export: &Export, value: &str, server: &str, reading: &mut Reading) -> Arc<SecretRecord> {
    let held = Arc::new(SecretRecord {
        secret: Secret::new(value.trim_matches('"')),
        kind: SecretKind::RadiusSecret,
        owner: server.to_owned(),
        origin: export.origin_of(value),
    });
    reading.facts.secrets.push(Arc::clone(&held));
    held
}

fn read_list(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let asked_by = asker(export).unwrap_or(RadiusAsker::Pam);
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let origin = export.origin_of(text);
        let mut words = text.split_whitespace();
        let (server, secret) = (words.next().unwrap_or_default(), words.next());
        match secret {
            Some(secret) => {
                LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere).understood(origin);
                let held = hold(export, secret, server, &mut reading);
                // The library's list may name both ends: `client/server`.
                let server = server.rsplit('/').next().unwrap_or(server);
                reading.facts.radius_targets.push(target(asked_by, server, Some(held), origin));
            }
            None => {
                LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere)
                    .not_understood(origin, "expected a server and its secret");
                reading.facts.masked_places.push(origin);
            }
        }
    }
    reading
}

fn read_library(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let origin = export.origin_of(text);
        let mut words = text.split_whitespace();
        let known = words.next() == Some("authserver");
        let class = if known { LineClass::Understood } else { LineClass::Ignored };
        LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere).class(origin, class);
        for server in words.filter(|_| known) {
            // `host:port:secret`
            let secret = server.splitn(3, ':').nth(2).filter(|_| !server.starts_with('['));
            let held = secret
                .filter(|secret| !secret.contains(':'))
                .map(|secret| hold(export, secret, server, &mut reading));
            let name = if held.is_some() { server.split(':').next().unwrap_or(server) } else { server };
            reading.facts.radius_targets.push(target(RadiusAsker::Library, name, held, origin));
        }
    }
    reading
}

fn read_plug_in(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut open: Option<(String, Option<Arc<SecretRecord>>, Origin)> = None;
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let origin = export.origin_of(text);
        let mut class = LineClass::Ignored;
        if text.starts_with("server") && !text.contains('=') {
            class = LineClass::Understood;
            open = Some((String::new(), None, origin));
        } else if text.starts_with('}') {
            if let Some((server, held, origin)) = open.take() {
                reading.facts.radius_targets.push(target(RadiusAsker::OpenVpn, &server, held, origin));
            }
        } else if let Some((name, value)) = text.split_once('=') {
            let (name, value) = (name.trim(), value.trim());
            match (name, open.as_mut()) {
                ("name", Some(open)) => {
                    class = LineClass::Understood;
                    open.0 = value.trim_matches('"').to_owned();
                }
                ("sharedsecret", _) => {
                    class = LineClass::Understood;
                    let owner = open.as_ref().map_or("RADIUS server", |open| open.0.as_str()).to_owned();
                    let held = hold(export, value, &owner, &mut reading);
                    if let Some(open) = open.as_mut() {
                        open.1 = Some(held);
                    }
                }
                _ => {}
            }
        }
        LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere).class(origin, class);
    }
    if let Some((server, held, origin)) = open {
        LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere)
            .note(origin, "this section is not closed by `}`; please export the complete file");
        reading.facts.radius_targets.push(target(RadiusAsker::OpenVpn, &server, held, origin));
    }
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn lists_of_servers() {
        for (path, text, reader, wanted) in [
            (
                "d/etc/pam_radius_auth.conf",
                "# a\n10.4.0.9:1812 sesame 3\n",
                "radius-servers",
                "Pam 10.4.0.9 secret",
            ),
            (
                "d/etc/pam_radius_auth.conf",
                "[2001:db8::9]:1812 sesame\n",
                "radius-servers",
                "Pam 2001:db8::9 secret",
            ),
            ("d/etc/radiusclient/servers", "aaa.example sesame\n", "radius-servers", "Library - secret"),
            (
                "d/etc/radiusclient/radiusclient.conf",
                "auth_order radius\nauthserver 10.4.0.9:1812\nservers /etc/radiusclient/servers\n",
                "radius-client",
                "Library 10.4.0.9 -",
            ),
            (
                "d/etc/radiusclient/radiusclient.conf",
                "authserver 10.4.0.9:1812:sesame\ndictionary /x\n",
                "radius-client",
                "Library 10.4.0.9 secret",
            ),
            (
                "d/etc/openvpn/radiusplugin.cnf",
                "NAS-Identifier=x\nserver\n{\n\tacctport=1813\n\tname=10.4.0.9\n\tsharedsecret=sesame\n}\n",
                "openvpn-radius",
                "OpenVpn 10.4.0.9 secret",
            ),
        ] {
            let export = Export::new(ExportId(0), path, text.into());
            let found = crate::recognise(&export).reader.unwrap();
            assert_eq!(found.name, reader, "{text}");
            let reading = (found.read)(&export, &ReadContext::default());
            let one = &reading.facts.radius_targets[0];
            let told = format!(
                "{:?} {} {}",
                one.asked_by,
                one.address.map_or("-".into(), |address| address.to_string()),
                if one.secret.is_some() { "secret" } else { "-" }
            );
            assert_eq!(told, wanted, "{text}");
            assert!(reading.facts.secrets.iter().all(|held| held.secret.same_as(&Secret::new("sesame"))));
        }
    }
}
