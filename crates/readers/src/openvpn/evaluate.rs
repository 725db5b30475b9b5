//! From directives to a tunnel: applies helper directives and defaults as the daemon does.

use super::config::{Config, Topology};
use super::{DAEMON, offers, plan, refusal};
use ipnet::{IpNet, Ipv4Net};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use trevlin_model::plan::AddressPlan;
use trevlin_model::{
    CertificateRequirement, ClientAuthentication, DefaultValue, Export, IpRange, Listener, Origin, Pool,
    PoolPlacement, Protocol, Revocation, Setting, Tunnel, TunnelFamily, TunnelRole,
};

/// The tunnel that the directives make.
pub(super) fn tunnel(config: Config, per_client: &[&Export], export: &Export) -> Tunnel {
    let role = role(&config);
    let serves = role == TunnelRole::Server;
    let kind = device_kind(&config);
    let origin = [
        config.server.as_ref().map(|said| said.1),
        config.meant_as_server.map(|said| said.1),
        config.mode_server.map(|said| said.1),
        config.remote.as_ref().map(|said| said.1),
        config.dev.as_ref().map(|said| said.1),
        config.first,
    ]
    .into_iter()
    .flatten()
    .next()
    .unwrap_or_else(|| export.origin(0..0));
    let word = match role {
        TunnelRole::Server => "server",
        TunnelRole::Client => "client",
        TunnelRole::PointToPoint => "link",
    };
    let mut passwords = config.passwords.clone();
    for check in &mut passwords {
        check.optional = config.password_optional.is_some();
    }
    let certificate = match config.certificate {
        Some((value, origin)) => Setting::Stated { value, origin },
        None => {
            Setting::default_of(CertificateRequirement::Required, DAEMON, "openvpn(8), --verify-client-cert")
        }
    };
    let name = format!("OpenVPN {word} ({})", export.file_name());
    Tunnel {
        refused: refusal::of(&config, serves, kind),
        listeners: if role == TunnelRole::Client || config.no_bind.is_some() {
            Vec::new()
        } else {
            vec![listener(&config)]
        },
        proof: ClientAuthentication {
            certificate: serves.then_some(certificate),
            passwords,
            alternatives: Vec::new(),
            shared_key: config.shared_key.map(|((), origin)| origin),
            revocation: revocation(&config),
        },
        offers: offers::of(&config, role, origin),
        addresses: AddressPlan {
            pools: if serves { pools(&config, kind) } else { Vec::new() },
            ..plan::of(&config, per_client)
        },
        certificates: config.certificates,
        missing: config.missing,
        settings: config.settings,
        ..Tunnel::new(name, TunnelFamily::OpenVpn, role, origin)
    }
}

/// The last list wins, and the daemon refuses clients while it cannot read it (openvpn(8), --crl-verify).
fn revocation(config: &Config) -> Option<Revocation> {
    let (_, said) = config.settings.iter().rev().find(|(name, _)| name == "crl-verify")?;
    Some(Revocation { strict: true, origin: said.origin()? })
}

fn role(config: &Config) -> TunnelRole {
    if config.meant_as_server.is_some() || config.mode_server.is_some() {
        TunnelRole::Server
    } else if config.client.is_some()
        || config.pull.is_some()
        || (config.tls_client.is_some() && config.remote.is_some())
    {
        TunnelRole::Client
    } else {
        TunnelRole::PointToPoint
    }
}

/// `tun` or `tap`, from `dev-type` or the beginning of the device's name.
fn device_kind(config: &Config) -> Option<&'static str> {
    let said = config.dev_type.as_ref().or(config.dev.as_ref())?;
    ["tun", "tap"].into_iter().find(|kind| said.0.starts_with(kind))
}

fn listener(config: &Config) -> Listener {
    let tcp = config.proto.as_ref().is_some_and(|(name, _)| name.starts_with("tcp"));
    Listener {
        protocol: if tcp { Protocol::TCP } else { Protocol::UDP },
        address: config.local_address(),
        port: match config.port {
            Some((value, origin)) => Setting::Stated { value, origin },
            None => Setting::default_of(1194, DAEMON, "openvpn(8), --port"),
        },
    }
}

/// The topology in force. Up to 2.6 the default is net30; 2.7 made it subnet for servers.
fn topology(config: &Config) -> Setting<Topology> {
    const SOURCE: &str = "openvpn(8), --topology; Changes.rst of 2.7";
    match config.topology {
        Some((value, origin)) => Setting::Stated { value, origin },
        None => Setting::Default(vec![
            DefaultValue { value: Topology::Net30, daemon: DAEMON, versions: "up to 2.6", source: SOURCE },
            DefaultValue { value: Topology::Subnet, daemon: DAEMON, versions: "from 2.7", source: SOURCE },
        ]),
    }
}

/// Name of the pools' owner.
const OWNER: &str = "OpenVPN server";

fn pools(config: &Config, kind: Option<&str>) -> Vec<Pool> {
    let mut found = Vec::new();
    let subnet = kind == Some("tap") || topology(config).possible().any(|one| *one == Topology::Subnet);
    if let Some(((net, no_pool), at)) = config.server {
        found.push(server_pool(net, no_pool, at, config, subnet));
    } else if let Some((Some(bridge), at)) = config.bridge {
        let mut one = Pool {
            placement: Setting::Stated { value: PoolPlacement::Bridged, origin: at },
            ..Pool::new(OWNER, at)
        };
        one.server_addresses.push(bridge.gateway.into());
        one.ranges.extend(IpRange::new(bridge.first.into(), bridge.last.into()).map(|range| (range, at)));
        found.push(one);
    } else if let Some(((first, last), at)) = config.pool {
        let mut one = Pool::new(OWNER, at);
        if !subnet {
            one.per_client = per_client(config);
        }
        one.ranges.extend(IpRange::new(first.into(), last.into()).map(|range| (range, at)));
        if let Some(((local, mask), _)) = &config.ifconfig {
            one.server_addresses.push((*local).into());
            one.network =
                crate::addresses::v4_with_mask(&local.to_string(), mask).filter(|_| subnet).map(IpNet::from);
        }
        found.push(one);
    }
    if let Some((net, at)) = config.server_ipv6.or(config.pool_ipv6) {
        let mut one = Pool::new(OWNER, at);
        one.network = Some(net.trunc().into());
        let base = net.network().to_bits();
        // The pool begins at 1000 (hexadecimal), or at 2 where the prefix is too long for that (server-ipv6 only).
        let skip = match (config.server_ipv6, net.prefix_len()) {
            (Some(_), ..112) => 0x1000,
            (Some(_), _) => 2,
            (None, _) => net.addr().to_bits() - base,
        };
        let first = Ipv6Addr::from_bits(base.saturating_add(skip));
        one.ranges.extend(IpRange::new(first.into(), net.broadcast().into()).map(|range| (range, at)));
        match &config.ifconfig_ipv6 {
            _ if config.server_ipv6.is_some() => {
                one.server_addresses.push(Ipv6Addr::from_bits(base | 1).into())
            }
            Some((text, _)) => one
                .server_addresses
                .extend(text.split('/').next().and_then(|text| text.parse::<IpAddr>().ok())),
            None => {}
        }
        found.push(one);
    }
    // A mistyped address leaves no pool, or a pool that is not the one meant: the mistake is kept with it.
    if !config.malformed.is_empty() {
        if found.is_empty() {
            found.push(Pool::new(OWNER, config.malformed[0].origin));
        }
        found[0].malformed.clone_from(&config.malformed);
    }
    found
}

/// Each client uses a network of four addresses in the net30 topology (openvpn(8), `--topology`).
fn per_client(config: &Config) -> Setting<u32> {
    topology(config).map(|one| if one == Topology::Net30 { 4 } else { 1 })
}

/// Pool of `server network mask` (openvpn(8), `--server`).
fn server_pool(net: Ipv4Net, no_pool: bool, at: Origin, config: &Config, subnet: bool) -> Pool {
    let mut one = Pool::new(OWNER, at);
    if !subnet {
        one.per_client = per_client(config);
    }
    one.network = Some(net.into());
    let base = net.network().to_bits();
    one.server_addresses.push(Ipv4Addr::from_bits(base + 1).into());
    let broadcast = net.broadcast().to_bits();
    let (first, last) = if subnet {
        (base + 2, broadcast - 1)
    } else {
        (base + 4, broadcast - if net.prefix_len() == 29 { 0 } else { 4 })
    };
    let stated = config.pool.filter(|_| no_pool);
    let ends = match stated {
        Some(((first, last), at)) => Some((first, last, at)),
        None if no_pool => None,
        None => Some((Ipv4Addr::from_bits(first), Ipv4Addr::from_bits(last), at)),
    };
    one.ranges
        .extend(ends.and_then(|(first, last, at)| Some((IpRange::new(first.into(), last.into()).ok()?, at))));
    one
}
