//! Units of services that hand on connections: socat, the socket proxy of systemd, and SSH clients (systemd.service(5), socat(1),
//! systemd-socket-proxyd(8), ssh(1)), the engine of Docker (dockerd(8)), and those that change the packet filter or the kernel's settings by commands or by a script of the
//! administrator. Units of other programs say nothing that is judged.

use super::socket_units;
use crate::containers::engine;
use crate::programs::options::Variables;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, words_of_statement};
use crate::{addresses, commands, programs, relaying, sshd};
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::relay::Relay;
use trevlin_model::served::{AuthRequirement, Endpoint, Sources, TransportSecurity};
use trevlin_model::{
    CommandMoment, Export, Families, LineClass, Origin, Protocol, Setting, Tunnel, TunnelFamily, TunnelRole,
};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "unit-file",
    title: "service or socket unit (systemd)",
    manual: "systemd.service(5)",
    recognise,
    read,
};

trevlin_model::table! {
    /// Keys of each section.
    static KEYS: BTreeMap<String, BTreeSet<String>> = "../../tables/unit-keys.toml";
}

/// Whether systemd has a key in a section of a unit.
pub(crate) fn is_key(section: &str, key: &str) -> bool {
    section.starts_with("X-") || KEYS.get(section).is_some_and(|keys| keys.contains(key))
}

/// Programs whose units are read.
const PROGRAMS: [&str; 5] = ["socat", "systemd-socket-proxyd", "ssh", "autossh", "dockerd"];

/// Whether a unit's command changes the packet filter or settings of the kernel, or runs a script that an administrator put there.
fn is_command(command: &Command<'_>) -> bool {
    let path = command.words.first().copied().unwrap_or_default().trim_start_matches(SIGNS);
    let own = ["/usr/local/", "/root/", "/etc/", "/opt/"].iter().any(|start| path.starts_with(start));
    let shell = matches!(command.program(), "sh" | "bash" | "dash");
    own || shell || commands::changes_packets(command.program())
}

/// Signs before the path of a command (systemd.service(5), "Special executable prefixes").
const SIGNS: [char; 5] = ['-', '@', '+', '!', ':'];

fn recognise(export: &Export) -> Recognition {
    let named = export.file_name().ends_with(".service")
        || (export.path().contains(".service.d/") && export.file_name().ends_with(".conf"));
    let wanted = |one: &Command<'_>| {
        PROGRAMS.contains(&one.program()) || programs::knows(one.program()) || is_command(one)
    };
    let starts = named && started(export).iter().any(wanted);
    if starts || socket_units::listens(export) { Recognition::Content } else { Recognition::No }
}

/// A command that a unit starts.
struct Command<'a> {
    words: Vec<&'a str>,
    /// The words as written.
    text: &'a str,
    origin: Origin,
}

impl<'a> Command<'a> {
    /// The program's name without its folder and the signs before it.
    fn program(&self) -> &'a str {
        let path = self.words.first().copied().unwrap_or_default().trim_start_matches(SIGNS);
        path.rsplit('/').next().unwrap_or_default()
    }
}

/// Lines with those that a backslash at the end joins to them, as the part of the text that they are.
fn logical(export: &Export) -> Vec<&str> {
    let text = export.text();
    let (mut found, mut start, mut at) = (Vec::new(), 0, 0);
    for line in text.split_inclusive('\n') {
        at += line.len();
        if !line.trim_end().ends_with('\\') {
            found.push(text[start..at].trim());
            start = at;
        }
    }
    found.push(text[start..].trim());
    found.retain(|line| !line.is_empty());
    found
}

/// Commands in their order; an empty one takes those before it away (systemd.service(5), ExecStart).
fn started(export: &Export) -> Vec<Command<'_>> {
    let mut found = Vec::new();
    for line in logical(export) {
        let key =
            ["ExecStartPre", "ExecStartPost", "ExecStart"].into_iter().find(|key| line.starts_with(key));
        let rest = key.and_then(|key| line[key.len()..].trim_start().strip_prefix('='));
        let Some(rest) = rest else { continue };
        let words: Vec<&str> = words_of_statement(rest).into_iter().filter(|word| *word != "\\").collect();
        if words.is_empty() {
            found.clear();
        } else {
            found.push(Command { words, text: rest.trim(), origin: export.origin_of(line) });
        }
    }
    found
}

/// Variables that a unit sets, those of its files over those in its own lines (systemd.exec(5), EnvironmentFile).
fn variables<'a>(export: &'a Export, around: &ReadContext<'a>) -> Variables<'a> {
    let mut found = Variables::none();
    for line in logical(export) {
        if let Some(rest) = line.strip_prefix("Environment=") {
            found = found.with(Variables::stated(rest, export.origin_of(line)));
        }
    }
    for line in logical(export) {
        let Some(path) = line.strip_prefix("EnvironmentFile=") else { continue };
        if let Some(file) = around.find(path.trim().trim_start_matches('-'), export) {
            found = found.with(Variables::of(file));
        }
    }
    found
}

fn read<'a>(export: &'a Export, around: &ReadContext<'a>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut section = "";
    for line in logical(export) {
        let origin = export.origin_of(line);
        if line.starts_with(['#', ';']) {
            continue;
        }
        if let Some(name) = line.strip_prefix('[') {
            section = name.trim_end_matches(']');
            book.class(origin, LineClass::Ignored);
            continue;
        }
        let key = line.split('=').next().unwrap_or_default().trim();
        let known = is_key(section, key);
        match (known, key) {
            (
                true,
                "ExecStart" | "ExecStartPre" | "ExecStartPost" | "ListenStream" | "ListenDatagram"
                | "Environment" | "EnvironmentFile",
            ) => book.understood(origin),
            (true, _) => book.class(origin, LineClass::Ignored),
            (false, _) => {
                book.not_understood(origin, serving::unknown("systemd.service(5) or systemd.exec(5)"))
            }
        }
    }
    for command in started(export) {
        if command.program() == "dockerd" {
            reading.facts.served.extend(engine::by_command(&command.words, command.origin));
            continue;
        }
        if programs::knows(command.program()) {
            let variables = variables(export, around);
            let words = variables.replace(&command.words, command.origin);
            programs::started(&words, command.origin, export, around, &mut reading);
            continue;
        }
        if is_command(&command) {
            let text = command.text.trim_start_matches(SIGNS);
            let at = (command.origin, CommandMoment::Boot);
            commands::of_setting(text, at, &[], export, around, &mut reading);
            continue;
        }
        let name = format!("{} ({})", command.program(), export.file_name());
        let mut relay = match command.program() {
            "socat" => socat(&command),
            "systemd-socket-proxyd" => socket_proxy(&command, export, around),
            _ => {
                if let Some(tunnel) = ssh(&command, export) {
                    reading.facts.relays.extend(sshd::client::relays(&tunnel));
                    reading.facts.tunnels.push(tunnel);
                }
                None
            }
        };
        if let Some(relay) = &mut relay {
            relay.name = format!("relay {name}");
            relay.units.push(export.file_name().trim_end_matches(".service").to_owned());
        }
        reading.facts.relays.extend(relay);
    }
    reading
}

/// `socat [options] LISTENING-ADDRESS CONNECTING-ADDRESS`.
fn socat(command: &Command<'_>) -> Option<Relay> {
    let kind = |word: &&str| {
        word.split_once(':').is_some_and(|(kind, _)| {
            kind.len() > 2 && kind.chars().all(|one| one.is_ascii_alphanumeric() || one == '-')
        })
    };
    let mut ends = command.words[1..].iter().copied().filter(|word| !word.starts_with('-')).filter(kind);
    let (listen, target) = (ends.next()?, ends.next()?);
    let (kind, rest) = listen.split_once(':')?;
    let kind = kind.to_ascii_uppercase();
    let mut options = rest.split(',');
    let port = options.next()?.parse().ok()?;
    let options: Vec<(&str, &str)> = options.map(|one| one.split_once('=').unwrap_or((one, "1"))).collect();
    let option =
        |names: &[&str]| options.iter().rev().find(|(name, _)| names.contains(name)).map(|(_, value)| *value);
    let secured = kind.starts_with("OPENSSL") || kind.starts_with("SSL");
    let (protocol, families) = match kind.as_str() {
        "TCP-LISTEN" | "TCP-L" => (Protocol::TCP, Families::Both),
        "TCP4-LISTEN" | "TCP4-L" => (Protocol::TCP, Families::V4),
        "TCP6-LISTEN" | "TCP6-L" => (Protocol::TCP, Families::Both),
        "OPENSSL-LISTEN" | "SSL-LISTEN" | "SSL-L" | "OPENSSL-L" => (Protocol::TCP, Families::Both),
        "UDP-LISTEN" | "UDP-L" | "UDP-RECVFROM" | "UDP6-LISTEN" | "UDP6-RECVFROM" => {
            (Protocol::UDP, Families::Both)
        }
        "UDP4-LISTEN" | "UDP4-L" | "UDP4-RECVFROM" => (Protocol::UDP, Families::V4),
        _ => return None,
    };
    let families = match option(&["pf", "protocol-family"]) {
        Some("ip4" | "inet" | "2") => Families::V4,
        Some("ip6" | "inet6" | "10") => Families::V6,
        _ => families,
    };
    let (to, rest) = target.split_once(':')?;
    let to = to.to_ascii_uppercase();
    let onward = match to.as_str() {
        "TCP" | "TCP4" | "TCP6" | "TCP-CONNECT" | "TCP4-CONNECT" | "TCP6-CONNECT" | "OPENSSL" | "SSL"
        | "OPENSSL-CONNECT" => Protocol::TCP,
        "UDP" | "UDP4" | "UDP6" | "UDP-CONNECT" | "UDP4-CONNECT" | "UDP6-CONNECT" | "UDP-SENDTO"
        | "UDP4-SENDTO" => Protocol::UDP,
        _ => return None,
    };
    let server = relaying::server(rest.split(',').next()?, None)?;
    let mut relay = Relay::new("socat", "", server, command.origin);
    relay.protocol = onward;
    let carried = if secured { TransportSecurity::Encrypted } else { TransportSecurity::Plain };
    let at = Endpoint { families, ..Endpoint::everywhere(protocol, port, carried, command.origin) };
    let at = at.as_relay();
    relay.endpoints.push(match option(&["bind"]).map(|host| host.trim_matches(['[', ']'])) {
        None => at,
        Some("localhost") => at.at([127, 0, 0, 1].into()),
        Some(host) => host.parse().map_or_else(|_| at.clone(), |address| at.clone().at(address)),
    });
    if let Some(range) =
        option(&["range"]).and_then(|text| addresses::range_or_prefix(&text.replace(':', "/")))
    {
        relay.sources = Sources::of(vec![range], vec![command.origin]);
    }
    // A certificate of the client is required unless that is switched off (socat(1), verify).
    let verifies = secured && option(&["verify"]) != Some("0");
    relay.login = verifies.then_some(AuthRequirement::Certificate);
    Some(relay)
}

/// `systemd-socket-proxyd [options] HOST:PORT`, at the places of its socket unit.
fn socket_proxy(command: &Command<'_>, export: &Export, around: &ReadContext<'_>) -> Option<Relay> {
    let target = command.words[1..].iter().find(|word| !word.starts_with('-'))?;
    let mut relay = Relay::new("systemd-socket-proxyd", "", relaying::server(target, None)?, command.origin);
    let stem = export.file_name().trim_end_matches(".service");
    for socket in around.exports.iter().filter(|one| one.file_name().ends_with(".socket")) {
        let value = |key: &str| {
            {
                logical(socket).into_iter().filter_map(move |line| {
                    let (name, value) = line.split_once('=')?;
                    (name.trim() == key).then(|| (value.trim(), line))
                })
            }
            .collect::<Vec<_>>()
        };
        let service = value("Service").last().map(|(name, _)| name.trim_end_matches(".service"));
        if service.unwrap_or_else(|| socket.file_name().trim_end_matches(".socket")) != stem {
            continue;
        }
        for (text, line) in value("ListenStream") {
            relay.endpoints.extend(socket_units::place(text, Protocol::TCP, socket.origin_of(line)));
        }
    }
    Some(relay)
}

/// An SSH connection with its forwards, as the client's configuration would have it (ssh(1), -L, -R, -D, -g).
fn ssh(command: &Command<'_>, export: &Export) -> Option<Tunnel> {
    /// Options that take a value (ssh(1)); autossh adds `-M`.
    const WITH_VALUE: &str = "BbcDEeFIiJLlMmOopQRSWw";
    let mut settings: Vec<(&str, String)> = Vec::new();
    let mut destination = None;
    let mut words = command.words[1..].iter().copied();
    while let Some(word) = words.next() {
        let Some(flags) = word.strip_prefix('-') else {
            destination = Some(word);
            break;
        };
        for (at, flag) in flags.char_indices() {
            if flag == 'g' {
                settings.push(("gatewayports", "yes".into()));
            }
            if !WITH_VALUE.contains(flag) {
                continue;
            }
            let own = &flags[at + flag.len_utf8()..];
            let value = if own.is_empty() { words.next()? } else { own };
            match flag {
                'L' => settings.push(("localforward", spaced(value)?)),
                'R' => settings.push(("remoteforward", spaced(value).unwrap_or_else(|| value.to_owned()))),
                'D' => settings.push(("dynamicforward", value.to_owned())),
                'o' => {
                    let (name, value) = value.split_once(['=', ' '])?;
                    let name = name.trim().to_ascii_lowercase();
                    if name == "gatewayports" {
                        settings.push(("gatewayports", value.trim().to_owned()));
                    }
                }
                _ => {}
            }
            break;
        }
    }
    let destination = destination?;
    let host = destination.rsplit_once('@').map_or(destination, |(_, host)| host);
    if !settings.iter().any(|(name, _)| name.ends_with("forward")) {
        return None;
    }
    let name = format!("SSH to {host} ({})", export.file_name());
    let mut tunnel = Tunnel::new(name, TunnelFamily::SshForward, TunnelRole::Client, command.origin);
    settings.insert(0, ("remote", host.to_owned()));
    let stated = |value| Setting::Stated { value, origin: command.origin };
    tunnel.settings.extend(settings.into_iter().map(|(name, value)| (name.to_owned(), stated(value))));
    Some(tunnel)
}

/// `[BIND:]PORT:HOST:HOSTPORT` as the configuration file writes it: `[BIND:]PORT HOST:HOSTPORT`.
fn spaced(text: &str) -> Option<String> {
    let mut parts: Vec<&str> = Vec::new();
    let mut rest = text;
    while !rest.is_empty() {
        let end =
            if rest.starts_with('[') { rest.find(']')? + 1 } else { rest.find(':').unwrap_or(rest.len()) };
        parts.push(&rest[..end]);
        rest = rest[end..].strip_prefix(':').unwrap_or_default();
    }
    match parts.as_slice() {
        [port, host, to] => Some(format!("{port} {host}:{to}")),
        [bind, port, host, to] => Some(format!("{bind}:{port} {host}:{to}")),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn commands_of_relays() {
        for (command, wanted) in [
            ("/usr/bin/socat TCP-LISTEN:5900,fork,reuseaddr TCP:10.4.0.9:5901", "5900 any -> 10.4.0.9:5901"),
            (
                "-socat -d -d tcp4-l:25,bind=10.4.0.1,range=10.4.0.0/24 tcp:mail:25",
                "25 10.4.0.1 -> mail:25 from 10.4.0.0/24",
            ),
            ("socat OPENSSL-LISTEN:443,cert=/a.pem,fork TCP:127.0.0.1:80", "443 any -> 127.0.0.1:80 login"),
            ("socat OPENSSL-LISTEN:443,cert=/a.pem,verify=0 TCP:127.0.0.1:80", "443 any -> 127.0.0.1:80"),
            ("socat TCP-LISTEN:80 UNIX-CONNECT:/run/x.sock", ""),
            ("socat -u FILE:/x TCP:10.4.0.9:9", ""),
            ("/usr/bin/ssh -NgL 9000:10.4.0.9:80 ann@quay", "9000 any -> 10.4.0.9:80 by quay"),
            ("/usr/bin/autossh -M 0 -N -L 9000:10.4.0.9:80 quay", "9000 127.0.0.1 -> 10.4.0.9:80 by quay"),
            (
                "ssh -N -o GatewayPorts=yes -L [2001:db8::1]:90:[2001:db8::9]:80 quay",
                "90 2001:db8::1 -> [2001:db8::9]:80 by quay",
            ),
            ("ssh quay uptime", ""),
            ("/bin/true", ""),
        ] {
            let text = format!("[Unit]\nDescription=x\n[Service]\nExecStart={command}\nWobble=1\n");
            let export = Export::new(ExportId(0), "d/etc/systemd/system/x.service", text);
            let reading = read(&export, &ReadContext::default());
            let line = |one: &Relay| {
                let at = &one.endpoints[0];
                let host = at.address.map_or("any".to_owned(), |address| address.to_string());
                let from = if one.sources.is_everybody() {
                    String::new()
                } else {
                    format!(" from {}", one.sources.words())
                };
                let login = if one.login.is_some() { " login" } else { "" };
                let by = one.opened_by.as_ref().map(|host| format!(" by {host}")).unwrap_or_default();
                format!("{} {host} -> {}{from}{login}{by}", at.port, one.target())
            };
            let told: Vec<String> = reading.facts.relays.iter().map(line).collect();
            assert_eq!(told.concat(), wanted, "{command}");
            assert_eq!(reading.ledger.notes.len(), 1, "{command}");
        }
    }

    #[test]
    fn sockets_of_a_proxy() {
        let unit = "[Service]\nExecStart=/lib/systemd/systemd-socket-proxyd --exit-idle-time=60 \\\n  10.4.0.9:5432\n";
        let export = Export::new(ExportId(0), "d/etc/systemd/system/db.service", unit.into());
        let socket = |name: &str, text: &str, id| {
            Export::new(ExportId(id), format!("d/etc/systemd/system/{name}"), text.into())
        };
        let own = socket("db.socket", "[Socket]\nListenStream=5432\nListenStream=[::1]:5433\n", 1);
        let other = socket("x.socket", "[Socket]\nListenStream=99\nService=y.service\n", 2);
        let third = socket("z.socket", "[Socket]\nListenStream=10.4.0.1:98\nService=db.service\n", 3);
        assert_eq!(recognise(&export), Recognition::Content);
        let reading = read(&export, &ReadContext::of(vec![&export, &own, &other, &third]));
        let relay = &reading.facts.relays[0];
        let ports: Vec<u16> = relay.endpoints.iter().map(|at| at.port).collect();
        assert_eq!((ports.as_slice(), relay.target().as_str()), (&[5432, 5433, 98][..], "10.4.0.9:5432"));
        assert!(reading.ledger.notes.is_empty());
    }
}
