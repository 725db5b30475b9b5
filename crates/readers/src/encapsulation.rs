//! Interfaces that wrap packets in others without encrypting them: GRE, IP in IP and VXLAN.

use std::net::IpAddr;
use trevlin_model::{Origin, Setting, Tunnel, TunnelFamily, TunnelRole};

/// The family of a kind of interface, as the kernel, systemd-networkd and netplan name kinds; `None` for all others.
fn family(kind: &str) -> Option<TunnelFamily> {
    Some(match kind {
        "gre" | "gretap" | "ip6gre" | "ip6gretap" | "gre/ip" | "gre/ipv6" | "erspan" | "ip6erspan" => {
            TunnelFamily::Gre
        }
        "ipip" | "sit" | "ip6tnl" | "ip/ip" | "ipv6/ip" | "ipip6" | "ip6ip6" | "ipv6/ipv6" | "ip/ipv6"
        | "any/ip" | "isatap" | "any/ipv6" => TunnelFamily::IpInIp,
        "vxlan" | "geneve" => TunnelFamily::Vxlan,
        _ => return None,
    })
}

/// The tunnel that an interface of such a kind is. Interfaces that the kernel makes by itself have no other end, and are none.
pub(crate) fn encapsulation(
    kind: &str,
    device: &str,
    local: Option<&str>,
    remote: Option<&str>,
    origin: Origin,
) -> Option<Tunnel> {
    let family = family(kind)?;
    let known = |end: Option<&str>| {
        end.and_then(|text| text.parse::<IpAddr>().ok()).filter(|one| !one.is_unspecified())
    };
    let remote = known(remote)?;
    let mut tunnel =
        Tunnel::new(format!("{} {device}", family.name()), family, TunnelRole::PointToPoint, origin);
    tunnel.interface = Some(device.to_owned());
    let mut add = |name: &str, address: IpAddr| {
        tunnel.settings.push((name.to_owned(), Setting::Stated { value: address.to_string(), origin }));
    };
    add("remote", remote);
    if let Some(local) = known(local) {
        add("local", local);
    }
    Some(tunnel)
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{Export, ExportId};

    #[test]
    fn kinds() {
        let origin = Export::new(ExportId(0), "f", "x".into()).origin(0..1);
        for (kind, remote, wanted) in [
            ("gre", Some("198.51.100.9"), Some("GRE t")),
            ("gre", Some("0.0.0.0"), None),
            ("gre", Some("any"), None),
            ("ip/ip", Some("198.51.100.9"), Some("IP in IP t")),
            ("vxlan", Some("2001:db8::9"), Some("VXLAN t")),
            ("bridge", Some("198.51.100.9"), None),
            ("vxlan", None, None),
        ] {
            let tunnel = encapsulation(kind, "t", None, remote, origin);
            assert_eq!(tunnel.as_ref().map(|one| one.name.as_str()), wanted, "{kind} {remote:?}");
        }
    }
}
