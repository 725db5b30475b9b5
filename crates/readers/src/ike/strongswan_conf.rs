//! `strongswan.conf` (strongswan.conf(5)): settings of the daemon that affect tunnels, and its RADIUS servers.

use super::settings::{View, each_value, parse, read_in};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use std::sync::Arc;
use trevlin_model::radius::{RadiusAsker, RadiusTarget};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, LineClass, Origin, Secret, SecretRecord, Setting, Tunnel};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "strongswan-conf",
    title: "settings of strongSwan's daemon",
    manual: "strongswan.conf(5)",
    recognise,
    read,
};

/// Under which name a tunnel has the setting that lets charon answer in aggressive mode with a shared key.
const AGGRESSIVE_KEY: &str = "aggressive-with-shared-key";

/// The daemon's own name for it.
const AGGRESSIVE: &str = "i_dont_care_about_security_and_use_aggressive_mode_psk";

fn recognise(export: &Export) -> Recognition {
    let heading = |line: &str| {
        let bare: String = line.split_whitespace().collect();
        matches!(bare.as_str(), "charon{" | "charon-systemd{" | "libstrongswan{")
    };
    if export.lines().take(TELLING_LINES).any(|line| heading(line.text)) {
        Recognition::Content
    } else if export.file_name() == "strongswan.conf" || export.path().contains("strongswan.d/") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// The exports that a line of `other` reads in, where that is a file of this kind.
fn included<'a>(line: &str, other: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    // Most lines name nothing, and what a file is costs more to tell.
    if !line.trim_start().starts_with("include ") || recognise(other) == Recognition::No {
        return Vec::new();
    }
    read_in(line, other, around)
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let root = parse(&[export], around, &mut book);
    each_value(&root, &mut |within, value| {
        let known = value.key == AGGRESSIVE || within.contains(&"eap-radius");
        book.class(value.origin, if known { LineClass::Understood } else { LineClass::Ignored });
    });
    // Lines that another file includes belong to that file's settings.
    if around.reads_in(export, included) {
        return reading;
    }
    let whole = View::of(&root);
    let mut radius = Vec::new();
    for path in [&["charon", "plugins", "eap-radius"][..], &["eap-radius"]] {
        let mut view = Some(whole.clone());
        for name in path {
            view = view.and_then(|view| view.section(name));
        }
        radius.extend(view);
    }
    for view in radius {
        let secret_of_all = view.get("secret").cloned();
        let mut servers: Vec<View<'_, '_>> = Vec::new();
        if let Some(all) = view.section("servers") {
            servers.extend(all.names().into_iter().filter_map(|name| all.section(name)));
        }
        servers.push(view);
        for server in servers {
            let Some(address) = server.get("address").or_else(|| server.get("server")) else { continue };
            let held = server.get("secret").or(secret_of_all.as_ref()).map(|secret| {
                Arc::new(SecretRecord {
                    secret: Secret::new(secret.text.as_str()),
                    kind: SecretKind::RadiusSecret,
                    owner: address.text.clone(),
                    origin: secret.place,
                })
            });
            reading.facts.secrets.extend(held.clone());
            reading.facts.radius_targets.push(RadiusTarget {
                asked_by: RadiusAsker::Ike,
                server: address.text.clone(),
                address: address.text.parse().ok(),
                secret: held,
                origin: address.origin,
            });
        }
    }
    reading
}

/// Sets for every connection of a file whether charon responds in aggressive mode with a pre-shared key.
pub(super) fn tell_aggressive(tunnels: &mut [Tunnel], around: &ReadContext<'_>) {
    let allowed = around.once(|| AggressiveAllowed(aggressive_allowed(around)));
    for tunnel in tunnels {
        tunnel.settings.extend(allowed.0.clone());
    }
}

struct AggressiveAllowed(Option<(String, Setting<String>)>);

/// Whether charon responds in aggressive mode with a pre-shared key, where its settings are among the exports: it refuses by default.
fn aggressive_allowed(around: &ReadContext<'_>) -> Option<(String, Setting<String>)> {
    let mut settings = around.of_format(&READER).map(|(export, _)| export).peekable();
    let first: Origin = settings.peek()?.origin(0..0);
    for export in settings {
        for line in export.lines() {
            let text = line.text.split('#').next().unwrap_or_default().trim();
            if let Some((key, value)) = text.split_once('=')
                && key.trim() == AGGRESSIVE
            {
                let value = value.trim().to_owned();
                return Some((
                    AGGRESSIVE_KEY.into(),
                    Setting::Stated { value, origin: export.origin_of(text) },
                ));
            }
        }
    }
    // It may be in an included part that was not exported.
    let complete = around.of_format(&READER).all(|(export, _)| {
        let reads = |line: &str| line.trim().starts_with("include ");
        export.lines().all(|line| !reads(line.text) || !read_in(line.text, export, around).is_empty())
    });
    complete.then(|| (AGGRESSIVE_KEY.into(), Setting::Stated { value: "no".into(), origin: first }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn radius_servers_and_aggressive_mode() {
        let text = "charon {\n  i_dont_care_about_security_and_use_aggressive_mode_psk = yes\n  plugins {\n    eap-radius {\n      secret = openS3same\n      \
                    servers {\n        a { address = 10.4.0.9\n        }\n      }\n    }\n  }\n}\n";
        let export = Export::new(ExportId(0), "d/etc/strongswan.conf", text.into());
        assert_eq!(recognise(&export), Recognition::Content);
        let around = ReadContext::of(vec![&export]);
        let reading = read(&export, &around);
        let target = &reading.facts.radius_targets[0];
        assert_eq!((target.server.as_str(), target.secret.is_some()), ("10.4.0.9", true));
        assert!(
            matches!(aggressive_allowed(&around), Some((_, Setting::Stated { value, .. })) if value == "yes")
        );
        assert!(aggressive_allowed(&ReadContext::default()).is_none());
        let part = Export::new(
            ExportId(0),
            "d/etc/strongswan.conf",
            "charon {\n}\ninclude strongswan.d/*.conf\n".into(),
        );
        assert!(aggressive_allowed(&ReadContext::of(vec![&part])).is_none());
    }
}
