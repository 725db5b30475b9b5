//! Tunnels that are configured and that nothing starts: the units of their daemon are disabled or masked.
//!
//! `systemctl list-unit-files` lists an instance by its name where its state is its own, and otherwise its template, which is enabled
//! where any instance is (systemd.unit(5), systemctl(1)). Links in `*.wants` name the instance itself.

use std::collections::BTreeSet;
use trevlin_model::housekeeping::{Unit, UnitState};
use trevlin_model::{ExportState, Facts, IdleReason, IdleTunnel, Origin, Tunnel, TunnelFamily, TunnelRole};

/// Sets aside the tunnels that nothing starts. A socket at their port, or their interface among those that run, shows the contrary.
pub(super) fn set_aside<'a>(facts: &mut Facts, path_of: impl Fn(Origin) -> &'a str) {
    if facts.units.is_empty() {
        return;
    }
    set_filters_aside(facts, &path_of);
    let tunnels = std::mem::take(&mut facts.tunnels);
    for tunnel in tunnels {
        let unit =
            if runs(facts, &tunnel) { None } else { off(&facts.units, &tunnel, path_of(tunnel.origin)) };
        match unit {
            Some(unit) => {
                // Its addresses are as little in force.
                let own = |one: &trevlin_model::Interface| {
                    one.origin.export == tunnel.origin.export && tunnel.interface.as_ref() == Some(&one.name)
                };
                facts.stored_interfaces.retain(|one| !own(one));
                facts.filter_changes.retain(|one| one.origin.export != tunnel.origin.export);
                facts.idle_tunnels.push(IdleTunnel { tunnel, why: IdleReason::Unit(unit) });
            }
            None => facts.tunnels.push(tunnel),
        }
    }
}

/// Sets aside the stored packet filters whose units are off.
fn set_filters_aside<'a>(facts: &mut Facts, path_of: &impl Fn(Origin) -> &'a str) {
    let filters = std::mem::take(&mut facts.filters);
    for filter in filters {
        let stored = filter.state == ExportState::Stored;
        match stored.then(|| loader_that_is_off(&facts.units, path_of(filter.origin))).flatten() {
            Some(unit) => {
                // Its forwards are as little in force.
                let own = filter.origin.export;
                facts.forwards.retain(|one| one.origin.export != own);
                facts.idle_filters.push((filter, unit));
            }
            None => facts.filters.push(filter),
        }
    }
}

/// The unit that loads the rules of a file, where it is off and none of its kind is on (nftables.service, netfilter-persistent(8),
/// firewalld.service; ufw.service; iptables.service of iptables-services).
fn loader_that_is_off(units: &[Unit], path: &str) -> Option<Unit> {
    let loaders: &[&str] = match path.rsplit('/').next().unwrap_or(path) {
        "nftables.conf" => &["nftables"],
        "rules.v4" | "rules.v6" => &["netfilter-persistent", "iptables", "ip6tables"],
        "iptables" | "ip6tables" => &["iptables", "ip6tables", "netfilter-persistent"],
        _ if path.split('/').any(|folder| folder == "firewalld") => &["firewalld"],
        _ if path.split('/').any(|folder| folder == "ufw") => &["ufw"],
        _ => return None,
    };
    let own = || units.iter().filter(|unit| loaders.contains(&plain(&unit.name)));
    let off = |unit: &&Unit| matches!(unit.state, UnitState::Disabled | UnitState::Masked);
    if own().any(|unit| !off(&unit)) {
        return None;
    }
    own().find(off).cloned()
}

/// Whether the exports show it running.
fn runs(facts: &Facts, tunnel: &Tunnel) -> bool {
    let observed = facts.sockets.iter().any(|socket| {
        tunnel.listeners.iter().any(|listener| {
            socket.protocol == listener.protocol
                && listener.port.possible().any(|port| *port == socket.port)
                && (listener.address.value().copied().flatten())
                    .is_none_or(|own| own.is_unspecified() || socket.address.is_none_or(|at| at == own))
        })
    });
    let up = facts.has_interfaces
        && tunnel.interface.as_ref().is_some_and(|name| {
            facts.interfaces.iter().any(|one| one.name == *name && one.up != Some(false))
        });
    observed || up
}

/// The unit that shows that nothing starts a tunnel: one of its units is off, and none is known to be on.
fn off(units: &[Unit], tunnel: &Tunnel, path: &str) -> Option<Unit> {
    let names = units_of(tunnel, path);
    let own = |unit: &&Unit| names.contains(plain(&unit.name));
    let states: Vec<&Unit> = units.iter().filter(own).collect();
    if states.iter().any(|unit| unit.state == UnitState::Enabled) {
        return None;
    }
    // A person starts a client when it is needed; only a masked one cannot be started.
    let on_demand = tunnel.role == TunnelRole::Client;
    let is_off =
        |unit: &&&Unit| unit.state == UnitState::Masked || (unit.state == UnitState::Disabled && !on_demand);
    let stated = states.iter().find(is_off);
    if on_demand || stated.is_some() {
        return stated.map(|unit| (*unit).clone());
    }
    // Nothing is stated of the instance. Its template is off, or instances beside it are linked and it is not.
    let templates: BTreeSet<&str> = names.iter().filter_map(|name| Some(&name[..=name.find('@')?])).collect();
    let of_template = |unit: &&Unit| {
        let name = plain(&unit.name);
        name.find('@').is_some_and(|at| templates.contains(&name[..=at]))
    };
    let related: Vec<&Unit> = units.iter().filter(of_template).collect();
    let template_is_on =
        related.iter().any(|unit| plain(&unit.name).ends_with('@') && unit.state == UnitState::Enabled);
    (states.is_empty() && !template_is_on).then(|| related.first().map(|unit| (*unit).clone())).flatten()
}

/// The name of a unit without its ending.
fn plain(name: &str) -> &str {
    name.rsplit_once('.').map_or(name, |(plain, _)| plain)
}

/// Units that may start a tunnel, without their endings: those of the daemon, as packages name them, and instances by the file's name.
fn units_of(tunnel: &Tunnel, path: &str) -> BTreeSet<String> {
    let (folder, file) = path.rsplit_once('/').unwrap_or(("", path));
    let last_folder = folder.rsplit('/').next().unwrap_or(folder);
    let instance = file.rsplit_once('.').map_or(file, |(name, _)| name);
    let daemon: &[&str] = match tunnel.family {
        TunnelFamily::Pptp => &["pptpd"],
        TunnelFamily::L2tp => &["xl2tpd"],
        TunnelFamily::OpenConnect => &["ocserv"],
        TunnelFamily::TlsRelay => &["stunnel", "stunnel4"],
        // It starts every file of the folder, as packages come (/etc/default/openvpn).
        TunnelFamily::OpenVpn if last_folder == "openvpn" => &["openvpn"],
        TunnelFamily::Ipsec => &[
            "strongswan",
            "strongswan-starter",
            "strongswan-swanctl",
            "charon-systemd",
            "ipsec",
            "libreswan",
            "openswan",
        ],
        _ => &[],
    };
    let templates: &[&str] = match tunnel.family {
        TunnelFamily::OpenVpn if last_folder == "server" => &["openvpn-server"],
        TunnelFamily::OpenVpn if last_folder == "client" => &["openvpn-client"],
        TunnelFamily::OpenVpn => &["openvpn"],
        TunnelFamily::WireGuard if last_folder == "wireguard" => &["wg-quick"],
        TunnelFamily::TlsRelay => &["stunnel"],
        TunnelFamily::OpenConnect => &["ocserv"],
        _ => &[],
    };
    let instances = templates.iter().map(|template| format!("{template}@{instance}"));
    daemon.iter().map(|name| (*name).to_owned()).chain(instances).collect()
}

#[cfg(test)]
mod tests {
    use crate::testing::estate;

    #[test]
    fn a_tunnel_runs_where_something_starts_it() {
        const PPTP: (&str, &str) = ("d/etc/pptpd.conf", "remoteip 10.4.0.10-20\n");
        const WG: (&str, &str) = (
            "d/etc/wireguard/wg3.conf",
            "[Interface]\nAddress = 10.4.3.1/24\nListenPort = 51820\nPrivateKey = gBA/PIh4lMFtQ3wQd8U1RCCbXGsq5xhM5GcV3c1zO3w=\n",
        );
        const CLIENT: (&str, &str) =
            ("d/etc/openvpn/client/away.conf", "client\ndev tun\nremote 192.0.2.9\nca ca.crt\n");
        const WANTS: &str = "d/etc/systemd/system/multi-user.target.wants";
        let link = |name: &str| format!("{WANTS}/{name}");
        for (file, unit, wanted) in [
            (PPTP, ("d/units.txt".to_owned(), "pptpd.service masked enabled\n"), 0),
            (PPTP, ("d/units.txt".to_owned(), "pptpd.service disabled enabled\n"), 0),
            (PPTP, ("d/units.txt".to_owned(), "pptpd.service enabled enabled\n"), 1),
            (PPTP, ("d/units.txt".to_owned(), "xl2tpd.service disabled enabled\n"), 1),
            (PPTP, (link("pptpd.service"), "/lib/systemd/system/pptpd.service"), 1),
            (PPTP, ("d/etc/systemd/system/pptpd.service".to_owned(), "/dev/null"), 0),
            (CLIENT, ("d/units.txt".to_owned(), "openvpn-client@away.service disabled enabled\n"), 1),
            (CLIENT, ("d/units.txt".to_owned(), "openvpn-client@away.service masked enabled\n"), 0),
            (WG, (link("wg-quick@wg3.service"), "/lib/systemd/system/wg-quick@.service"), 1),
            (WG, (link("wg-quick@wg4.service"), "/lib/systemd/system/wg-quick@.service"), 0),
            (WG, ("d/units.txt".to_owned(), "wg-quick@.service disabled enabled\n"), 0),
            (WG, ("d/units.txt".to_owned(), "wg-quick@.service enabled enabled\n"), 1),
            (WG, ("d/units.txt".to_owned(), "wg-quick@wg3.service disabled enabled\n"), 0),
            (WG, ("d/units.txt".to_owned(), "openvpn@wg3.service disabled enabled\n"), 1),
        ] {
            let files = [file, (unit.0.as_str(), unit.1), ("d/more.txt", "")];
            // A list of units is recognised by three rows.
            let padded = format!("UNIT FILE STATE PRESET\n{}", unit.1);
            let files = if unit.0.ends_with("units.txt") {
                [files[0], (files[1].0, padded.as_str()), files[2]]
            } else {
                files
            };
            let estate = estate(&files);
            let facts = &estate.devices[0].facts;
            assert_eq!(
                (facts.tunnels.len(), facts.idle_tunnels.len()),
                (wanted, 1 - wanted),
                "{} {}",
                unit.0,
                unit.1
            );
        }
    }

    #[test]
    fn a_socket_and_an_interface_that_is_up_show_that_it_runs() {
        const OFF: (&str, &str) = ("d/units.txt", "UNIT FILE STATE PRESET\npptpd.service disabled enabled\n");
        for (ss, wanted) in
            [("tcp LISTEN 0 9 0.0.0.0:1723 0.0.0.0:*\n", 1), ("tcp LISTEN 0 9 0.0.0.0:22 0.0.0.0:*\n", 0)]
        {
            let estate = estate(&[("d/etc/pptpd.conf", "remoteip 10.4.0.10-20\n"), OFF, ("d/ss.txt", ss)]);
            assert_eq!(estate.devices[0].facts.tunnels.len(), wanted, "{ss}");
        }
    }
}
