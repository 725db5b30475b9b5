//! Published ports and mounts, as the engines write them.

use trevlin_model::container::{HostRight, PublishedPort};
use trevlin_model::{Origin, PortRange, Protocol};

/// `[[ADDRESS:]PORTS:]PORTS[/PROTOCOL]` (docker-run(1), --publish; compose-spec, `ports`).
///
/// `Err` states the expected syntax; `Ok(None)` is a port that the engine publishes at a port of its own choice.
pub(super) fn published(text: &str, origin: Origin) -> Result<Option<PublishedPort>, &'static str> {
    const EXPECTED: &str = "a published port, as `[address:][ports:]ports[/protocol]`";
    let (ends, protocol) = match text.split_once('/') {
        Some((ends, name)) => (ends, protocol(name).ok_or(EXPECTED)?),
        None => (text, Protocol::TCP),
    };
    let (before, inner) = ends.rsplit_once(':').map_or((None, ends), |(one, other)| (Some(one), other));
    let inner = ports(inner).ok_or(EXPECTED)?;
    let Some(before) = before else { return Ok(None) };
    let (address, outer) = match before.rsplit_once(':') {
        Some((address, outer)) => (Some(address), outer),
        None if before.parse::<std::net::IpAddr>().is_ok() => (Some(before), ""),
        None => (None, before),
    };
    let address = match address.map(|text| text.trim_matches(['[', ']'])) {
        None | Some("") => None,
        Some(text) => Some(text.parse().map_err(|_| EXPECTED)?),
    };
    if outer.is_empty() || outer == "0" {
        return Ok(None);
    }
    let ports = ports(outer).ok_or(EXPECTED)?;
    Ok(Some(PublishedPort { protocol, address, ports, inner: inner.first, origin }))
}

pub(super) fn protocol(name: &str) -> Option<Protocol> {
    match name.to_ascii_lowercase().as_str() {
        "tcp" => Some(Protocol::TCP),
        "udp" => Some(Protocol::UDP),
        "sctp" => Some(Protocol(Some(132))),
        _ => None,
    }
}

/// `80` or `8000-8010`.
pub(super) fn ports(text: &str) -> Option<PortRange> {
    let (first, last) = text.split_once('-').unwrap_or((text, text));
    let (first, last) = (first.trim().parse().ok()?, last.trim().parse().ok()?);
    (first <= last).then_some(PortRange { first, last })
}

/// Folders of the host whose content decides who is root there.
const DECIDING: [&str; 14] = [
    "/", "/boot", "/dev", "/etc", "/home", "/lib", "/opt", "/proc", "/root", "/run", "/sys", "/usr", "/var",
    "/var/run",
];
/// Folders of the engines themselves.
const OF_ENGINES: [&str; 3] = ["/var/lib/docker", "/var/lib/containers", "/var/lib/kubelet"];
/// Folders with secrets of the host that even a reader gets hold of.
const SECRET: [&str; 5] = ["/", "/etc", "/home", "/root", "/etc/shadow"];
/// Sockets of the engines.
const SOCKETS: [&str; 4] = ["docker.sock", "podman.sock", "containerd.sock", "crio.sock"];

/// The right that a folder or a file of the host gives inside.
pub(super) fn mounted(source: &str, read_only: bool) -> Option<HostRight> {
    let path = source.trim_end_matches('/');
    let path = if path.is_empty() && source.starts_with('/') { "/" } else { path };
    // Whoever can write to the socket commands the engine; that the file cannot be replaced is no limit.
    if SOCKETS.iter().any(|socket| path.ends_with(socket)) {
        return Some(HostRight::EngineSocket);
    }
    let deciding = DECIDING.contains(&path) || OF_ENGINES.iter().any(|folder| path.starts_with(folder));
    // The folder that holds the sockets.
    if matches!(path, "/run" | "/var/run") || (deciding && !read_only) {
        return Some(HostRight::WritableFolder(path.to_owned()));
    }
    (read_only && SECRET.contains(&path)).then(|| HostRight::ReadableFolder(path.to_owned()))
}

/// Capabilities by which a process becomes root of the host (capabilities(7)).
const STRONG: [&str; 8] =
    ["ALL", "BPF", "DAC_READ_SEARCH", "SYS_ADMIN", "SYS_BOOT", "SYS_MODULE", "SYS_PTRACE", "SYS_RAWIO"];

/// The right that an added capability gives.
pub(super) fn capability(name: &str) -> Option<HostRight> {
    let name = name.trim().to_ascii_uppercase();
    let name = name.strip_prefix("CAP_").unwrap_or(&name);
    STRONG.contains(&name).then(|| HostRight::Capability(name.to_owned()))
}

/// The right that an option of security gives (docker-run(1), --security-opt).
pub(super) fn security(option: &str) -> Option<HostRight> {
    let option = option.replace('=', ":");
    let off = ["seccomp:unconfined", "apparmor:unconfined", "label:disable"].contains(&option.as_str());
    off.then(|| HostRight::Unconfined(option.split(':').next().unwrap_or_default().to_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    const ORIGIN: Origin = Origin { export: ExportId(0), start: 0, end: 1 };

    #[test]
    fn ports_as_they_are_written() {
        for (text, wanted) in [
            ("8080:80", Ok(Some("any 8080 > 80 tcp"))),
            ("127.0.0.1:9000:9000/udp", Ok(Some("127.0.0.1 9000 > 9000 udp"))),
            ("[2001:db8::9]:443:8443", Ok(Some("2001:db8::9 443 > 8443 tcp"))),
            ("2001:db8::9:443:8443", Ok(Some("2001:db8::9 443 > 8443 tcp"))),
            ("8000-8010:9000-9010", Ok(Some("any 8000-8010 > 9000 tcp"))),
            ("80", Ok(None)),
            ("127.0.0.1::80", Ok(None)),
            ("eighty:80", Err(())),
            ("80:80/quic", Err(())),
            ("70000:80", Err(())),
        ] {
            let found = published(text, ORIGIN).map(|one| {
                one.map(|one| {
                    let address = one.address.map_or("any".into(), |address| address.to_string());
                    format!("{address} {} > {} {}", one.ports, one.inner, one.protocol.name())
                })
            });
            assert_eq!(found.as_ref().map(Option::as_deref).map_err(|_| ()), wanted, "{text}");
        }
    }

    #[test]
    fn rights() {
        for (source, read_only, wanted) in [
            ("/var/run/docker.sock", true, Some(HostRight::EngineSocket)),
            ("/run/user/1000/podman/podman.sock", false, Some(HostRight::EngineSocket)),
            ("/", false, Some(HostRight::WritableFolder("/".into()))),
            ("/etc/", false, Some(HostRight::WritableFolder("/etc".into()))),
            ("/etc", true, Some(HostRight::ReadableFolder("/etc".into()))),
            ("/var/run", true, Some(HostRight::WritableFolder("/var/run".into()))),
            ("/srv/tickets", false, None),
            ("/etc/localtime", true, None),
            ("/etc/nginx", false, None),
        ] {
            assert_eq!(mounted(source, read_only), wanted, "{source} {read_only}");
        }
        assert_eq!(capability("cap_sys_admin"), Some(HostRight::Capability("SYS_ADMIN".into())));
        assert_eq!(capability("NET_BIND_SERVICE"), None);
        assert_eq!(security("seccomp=unconfined"), Some(HostRight::Unconfined("seccomp".into())));
        assert_eq!(security("no-new-privileges:true"), None);
    }
}
