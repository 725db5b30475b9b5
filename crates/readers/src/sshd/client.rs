//! Configuration of the SSH's client (ssh_config(5)), as far as it brings up tunnels: ports handed on, and network
//! interfaces.
//!
//! For a keyword with one value the first that applies to a host counts; forwarding lines accumulate.

use super::lines::{arguments, keyword};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::{relaying, serving};
use serde::Deserialize;
use std::collections::BTreeSet;
use trevlin_model::relay::Relay;
use trevlin_model::served::{Endpoint, TransportSecurity};
use trevlin_model::{Export, LineClass, Origin, Protocol, Setting, Tunnel, TunnelFamily, TunnelRole};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "ssh-client",
    title: "SSH client configuration",
    manual: "ssh_config(5)",
    recognise,
    read,
};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Keywords {
    judged: BTreeSet<String>,
    passed_over: BTreeSet<String>,
}

trevlin_model::table! { static KEYWORDS: Keywords = "../../tables/ssh-client-keywords.toml"; }

/// Keywords that hand ports on, and those of which the first counts.
const FORWARDS: [&str; 3] = ["remoteforward", "localforward", "dynamicforward"];
const FIRST: [&str; 4] = ["hostname", "tunnel", "gatewayports", "clearallforwardings"];

fn recognise(export: &Export) -> Recognition {
    // Words that sshd_config(5), its twin for servers, does not have.
    let tells = export.lines().take(TELLING_LINES).any(|line| {
        keyword(line.text).is_some_and(|(name, rest)| {
            !rest.is_empty()
                && (FORWARDS.contains(&name.as_str())
                    || matches!(name.as_str(), "host" | "hashknownhosts" | "identityfile"))
        })
    });
    let path = export.path();
    let named =
        export.file_name() == "ssh_config" || path.contains("ssh_config.d/") || path.ends_with(".ssh/config");
    match (tells, named) {
        (true, true) => Recognition::Content,
        (_, true) => Recognition::Name,
        _ => Recognition::No,
    }
}

/// Lines that hold for some hosts.
struct Block {
    /// Patterns; none where the lines hold under a condition that is not known here.
    patterns: Vec<String>,
    lines: Vec<(String, String, Origin)>,
    origin: Origin,
}

impl Block {
    /// Whether the block holds for a host: a pattern fits it, and none that is turned around (ssh_config(5), PATTERNS).
    fn holds(&self, host: &str) -> bool {
        let fits = |pattern: &str| trevlin_model::ssh::matches(host, pattern);
        let against = self.patterns.iter().filter_map(|one| one.strip_prefix('!')).any(fits);
        !against && self.patterns.iter().filter(|one| !one.starts_with('!')).any(|one| fits(one))
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut blocks =
        vec![Block { patterns: vec!["*".into()], lines: Vec::new(), origin: export.origin(0..0) }];
    for line in export.lines() {
        let Some((name, rest)) = keyword(line.text) else { continue };
        let origin = export.origin_of(line.text.trim());
        let known = || !KEYWORDS.judged.contains(&name) && serving::is_known("ssh-client", &name);
        if KEYWORDS.passed_over.contains(&name) || known() {
            book.class(origin, LineClass::Ignored);
            continue;
        }
        if !KEYWORDS.judged.contains(&name) {
            book.not_understood(origin, "not a keyword of ssh_config(5); the client does not start with it");
            continue;
        }
        let (words, wrong) = arguments(rest);
        if let Some(why) = wrong {
            book.not_understood(origin, why);
            continue;
        }
        book.understood(origin);
        match name.as_str() {
            "host" => blocks.push(Block { patterns: words, lines: Vec::new(), origin }),
            "match" => {
                let all = words.len() == 1 && words[0].eq_ignore_ascii_case("all");
                let patterns = if all { vec!["*".into()] } else { Vec::new() };
                if !all {
                    book.note(
                        origin,
                        "this condition is only known on the client; the lines after it are not judged",
                    );
                }
                blocks.push(Block { patterns, lines: Vec::new(), origin });
            }
            "include" => {
                for path in &words {
                    if let Some(why) = around.missing_include(path, export) {
                        book.note(origin, why);
                    }
                }
            }
            _ => {
                if let Some(block) = blocks.last_mut() {
                    block.lines.push((name, words.join(" "), origin));
                }
            }
        }
    }
    let mut hosts: Vec<(&str, Origin)> = Vec::new();
    let mut known = BTreeSet::new();
    for block in &blocks {
        for pattern in block.patterns.iter().filter(|one| !one.contains(['*', '?', '!'])) {
            if known.insert(pattern.as_str()) {
                hosts.push((pattern, block.origin));
            }
        }
    }
    // Settings for every host, reported once where no host is named.
    let forwards = |block: &Block| block.lines.iter().any(|(name, ..)| name != "hostname");
    if hosts.is_empty()
        && let Some(block) =
            blocks.iter().find(|block| block.patterns.iter().any(|one| one == "*") && forwards(block))
    {
        hosts.push(("every host", block.origin));
    }
    for (host, origin) in hosts {
        // Every host is compared with every block.
        if !crate::growth::may_grow(16 * blocks.len()) {
            break;
        }
        let holds = |block: &&Block| block.holds(host);
        if let Some(tunnel) = tunnel(export, host, origin, &blocks.iter().filter(holds).collect::<Vec<_>>()) {
            reading.facts.relays.extend(relays(&tunnel));
            reading.facts.tunnels.push(tunnel);
        }
    }
    reading
}

/// Ports that a tunnel opens here and hands on by the other end (ssh_config(5), LocalForward and GatewayPorts).
pub(crate) fn relays(tunnel: &Tunnel) -> Vec<Relay> {
    let open = tunnel.stated("gatewayports").is_some_and(|(value, _)| value == "yes");
    let mut found = Vec::new();
    for (value, origin) in
        tunnel.settings.iter().filter(|(name, _)| name == "localforward").filter_map(|(_, one)| one.stated())
    {
        let Some((listen, target)) = value.split_once(' ') else { continue };
        let (host, port) = match listen.parse() {
            Ok(port) => (None, Some(port)),
            Err(_) if listen.starts_with("*:") => (Some("*"), listen[2..].parse().ok()),
            Err(_) => serving::host_and_port(listen),
        };
        let (Some(port), Some(server)) = (port, relaying::server(target.trim(), None)) else { continue };
        let at = Endpoint::everywhere(Protocol::TCP, port, TransportSecurity::Optional, origin);
        let mut relay = Relay::new("ssh", tunnel.name.clone(), server, origin);
        relay.endpoints.push(match host {
            Some("*") => at,
            None if open => at,
            None | Some("localhost") => at.at([127, 0, 0, 1].into()),
            Some(host) => match host.parse() {
                Ok(address) => at.at(address),
                Err(_) => continue,
            },
        });
        relay.opened_by = tunnel.stated("remote").map(|(host, _)| host.to_owned());
        found.push(relay);
    }
    found
}

/// The tunnel to a host, where something is handed on.
fn tunnel(export: &Export, host: &str, origin: Origin, blocks: &[&Block]) -> Option<Tunnel> {
    let lines = || blocks.iter().flat_map(|block| &block.lines);
    let first = |wanted: &str| {
        lines().find(|(name, ..)| name == wanted).map(|(_, value, origin)| (value.as_str(), *origin))
    };
    let on = |name: &str| first(name).is_some_and(|(value, _)| value != "no");
    let cleared = on("clearallforwardings");
    let forwards: Vec<_> =
        lines().filter(|(name, ..)| FORWARDS.contains(&name.as_str()) && !cleared).collect();
    if forwards.is_empty() && !on("tunnel") {
        return None;
    }
    let name = format!("SSH to {host} ({})", export.file_name());
    let mut tunnel = Tunnel::new(name, TunnelFamily::SshForward, TunnelRole::Client, origin);
    let mut add = |name: &str, value: &str, origin| {
        tunnel.settings.push((name.to_owned(), Setting::Stated { value: value.to_owned(), origin }));
    };
    add("remote", first("hostname").map_or(host, |(value, _)| value), origin);
    for name in FIRST.iter().filter(|name| **name != "hostname") {
        if let Some((value, origin)) = first(name) {
            add(name, value, origin);
        }
    }
    for (name, value, origin) in forwards {
        add(name, value, *origin);
    }
    Some(tunnel)
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn what_is_handed_on() {
        for (text, wanted) in [
            (
                "Host quay\n  Hostname gate.example\n  RemoteForward 8080 10.4.0.9:80\n",
                "SSH to quay (config): gate.example remoteforward 8080 10.4.0.9:80",
            ),
            (
                "Host quay\n  User ann\nHost *\n  Tunnel yes\nHost quay\n  Tunnel no\n",
                "SSH to quay (config): quay tunnel yes",
            ),
            ("Host quay\n  #RemoteForward 8080 10.4.0.9:80\n", ""),
            ("Host quay\n  LocalForward=9000 10.4.0.9:80\nHost *\n  ClearAllForwardings yes\n", ""),
            ("Host * !quay\n  DynamicForward 1080\nHost quay\n  Hostname a.example\n", ""),
            (
                "RemoteForward 8080 10.4.0.9:80\n",
                "SSH to every host (config): every host remoteforward 8080 10.4.0.9:80",
            ),
        ] {
            let export = Export::new(ExportId(0), "d/home/ann/.ssh/config", text.into());
            assert_ne!(recognise(&export), Recognition::No);
            let reading = read(&export, &ReadContext::default());
            let told: Vec<_> = reading
                .facts
                .tunnels
                .iter()
                .map(|one| {
                    let settings = one.settings.iter().filter(|(name, _)| name != "remote");
                    let rest: Vec<_> = settings
                        .map(|(name, setting)| format!(" {name} {}", setting.stated().unwrap().0))
                        .collect();
                    format!("{}: {}{}", one.name, one.stated("remote").unwrap().0, rest.join(""))
                })
                .collect();
            assert_eq!(told.join("; "), wanted, "{text}");
        }
        let wrong = Export::new(
            ExportId(0),
            "d/etc/ssh/ssh_config",
            "Host a\nwobble yes\nMatch exec x\nTunnel yes\n".into(),
        );
        let reading = read(&wrong, &ReadContext::default());
        assert_eq!((reading.ledger.notes.len(), reading.facts.tunnels.len()), (2, 0));
    }
}
