//! Packages of services: SSH, web interface, port mapping, dynamic DNS, addresses and names, shares, monitoring, the system itself. Each
//! init script translates them to daemon settings, which are reproduced here.

use super::network::Networks;
use super::text::{Package, Section};
use crate::reader::Reading;
use crate::serving::hold;
use ipnet::IpNet;
use std::net::{IpAddr, Ipv4Addr};
use trevlin_model::dhcp::{DhcpServer, DhcpSubnet, Reservation};
use trevlin_model::housekeeping::{ClockKeeper, LogKeeper, LogTarget};
use trevlin_model::listen::{DynamicName, Permission, PortMapper};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{
    Export, Families, IpRange, Login, LoginDaemon, LoginList, Origin, PortRange, Protocol, Setting,
};

/// Package `dropbear`: one server for each section. Unset options follow dropbear(8): both login methods are enabled, root may log in, port
/// 22 on every interface.
pub(super) fn dropbear(package: &Package, networks: &Networks, reading: &mut Reading) {
    for section in package.of("dropbear").filter(|one| one.is_on("enable") != Some(false)) {
        let origin = |option: &str| section.get(option).map_or(section.origin, |said| said.line);
        let on = |option: &str| section.is_on(option).unwrap_or(true);
        let passwords = on("PasswordAuth");
        let root_passwords = passwords && on("RootPasswordAuth");
        let root = match (on("RootLogin"), root_passwords) {
            (false, _) => "no",
            (true, true) => "yes",
            (true, false) => "prohibit-password",
        };
        let root_line =
            if section.is_on("RootLogin") == Some(false) { "RootLogin" } else { "RootPasswordAuth" };
        let word = |on: bool| if on { "yes" } else { "no" };
        let port = section.text("Port").unwrap_or("22").to_owned();
        let mut statements = vec![
            ("port", port.clone(), origin("Port")),
            ("passwordauthentication", word(passwords).to_owned(), origin("PasswordAuth")),
            ("kbdinteractiveauthentication", "no".into(), section.origin),
            ("pubkeyauthentication", "yes".into(), section.origin),
            ("permitrootlogin", root.to_owned(), origin(root_line)),
            ("permitemptypasswords", "no".into(), section.origin),
            (
                "gatewayports",
                word(section.is_on("GatewayPorts") == Some(true)).to_owned(),
                origin("GatewayPorts"),
            ),
            ("maxauthtries", section.text("MaxAuthTries").unwrap_or("10").to_owned(), origin("MaxAuthTries")),
        ];
        // By an interface it listens at its addresses only.
        for (name, said) in section.all("Interface").chain(section.all("DirectInterface")) {
            if let Some(net) = networks.network(name) {
                statements.push(("listenaddress", format!("{}:{port}", net.addr()), said.line));
            }
        }
        reading.facts.ssh_servers.push(crate::sshd::stated("Dropbear", section.whole(), statements));
    }
}

/// Package `uhttpd`: the pages by which the device is administered, and others.
pub(super) fn pages(package: &Package, reading: &mut Reading) {
    for section in package.of("uhttpd") {
        let name = format!("web site ({})", section.name.as_deref().unwrap_or("uhttpd"));
        let mut served = Served::new(ServedKind::Pages, "uhttpd", name, &["uhttpd"], section.whole())
            .labelled(section.name.as_deref().unwrap_or_default());
        let redirects = section.is_on("redirect_https") == Some(true);
        for (option, carried) in
            [("listen_http", TransportSecurity::Plain), ("listen_https", TransportSecurity::Encrypted)]
        {
            for (word, said) in section.all(option) {
                served.endpoints.extend(endpoint(word, carried, said.line));
            }
        }
        let mut part = ServiceResource::new(PartKind::Page, "/", section.whole());
        // The administration logs in with the accounts of the system.
        let administers = section.get("ubus_prefix").is_some()
            || section.get("lua_prefix").is_some()
            || section.get("ucode_prefix").is_some();
        let line =
            ["ucode_prefix", "lua_prefix", "ubus_prefix"].iter().find_map(|option| section.get(option));
        part.login = match (administers, section.get("config")) {
            (true, _) => Setting::Stated {
                value: AuthRequirement::Password,
                origin: line.map_or(section.origin, |said| said.line),
            },
            (false, Some(said)) => {
                Setting::Unknown { why: format!("`{}` decides who may see which page", said.text) }
            }
            (false, None) => Setting::Stated { value: AuthRequirement::Nothing, origin: section.origin },
        };
        if administers {
            part.remarks.push((Remark::Administration, line.map_or(section.origin, |said| said.line)));
        }
        if redirects && let Some(said) = section.get("redirect_https") {
            part.remarks.push((Remark::Redirect, said.line));
        }
        if section.is_on("no_dirlists") != Some(true) && !administers {
            part.remarks.push((Remark::Listing, section.origin));
        }
        part.path = section.text("home").map(str::to_owned);
        served.parts.push(part);
        reading.facts.served.push(served);
    }
}

/// Package `rpcd`: accounts of the administration besides those of the system, each with what it may read and write. `$p$NAME` stands for the
/// password of a system account; anything that is no hash is compared as it is written.
pub(super) fn administrators(package: &Package, export: &Export, reading: &mut Reading) {
    for section in package.of("login") {
        let (Some(user), Some(password)) = (section.text("username"), section.get("password")) else {
            continue;
        };
        if password.text.starts_with("$p$") {
            continue;
        }
        let kind =
            if password.text.starts_with('$') { SecretKind::PasswordHash } else { SecretKind::LoginPassword };
        let place = export.text_at(password.value);
        let secret = hold(export, &mut reading.facts, place, kind, user);
        reading.facts.logins.push(Login {
            user: user.to_owned(),
            list: LoginList::LocalFile(export.path().to_owned()),
            daemon: Some(LoginDaemon::Administration),
            service: "the web administration".into(),
            secret,
            certain: true,
            expires: None,
            origin: password.line,
        });
    }
}

/// `ADDRESS:PORT`, `[ADDRESS]:PORT` or a port.
fn endpoint(word: &str, carried: TransportSecurity, origin: Origin) -> Option<Endpoint> {
    let (host, port) = match crate::serving::host_and_port(word) {
        (host, Some(port)) => (host, port),
        (Some(port), None) => (None, port.parse().ok()?),
        (None, None) => return None,
    };
    let place = Endpoint::everywhere(Protocol::TCP, port, carried, origin);
    Some(match host.and_then(|host| host.parse::<IpAddr>().ok()) {
        Some(address) => place.at(address),
        None => place,
    })
}

/// Package `upnpd`: ports that hosts have opened for themselves.
pub(super) fn ports_on_request(package: &Package, reading: &mut Reading) {
    let Some(section) = package.of("upnpd").next() else { return };
    if section.is_on("enabled") == Some(false) {
        return;
    }
    let mut mapper = PortMapper {
        upnp: section.is_on("enable_upnp").unwrap_or(true),
        nat_pmp: section.is_on("enable_natpmp").unwrap_or(true),
        own_only: section.is_on("secure_mode").unwrap_or(true),
        port: section.get("port").and_then(|said| Some((said.text.parse().ok()?, said.line))),
        listens: section.all("internal_iface").map(|(word, said)| (word.to_owned(), said.line)).collect(),
        permissions: Vec::new(),
        origin: section.whole(),
    };
    for rule in package.of("perm_rule") {
        let range = |option: &str| {
            let text = rule.text(option).unwrap_or("0-65535");
            text.parse::<PortRange>().ok()
        };
        let hosts = rule.text("int_addr").unwrap_or("0.0.0.0/0").parse::<IpRange>().ok();
        if let (Some(outside), Some(inside), Some(hosts)) = (range("ext_ports"), range("int_ports"), hosts) {
            let allows = rule.text("action") == Some("allow");
            mapper.permissions.push(Permission { allows, outside, hosts, inside, origin: rule.whole() });
        }
    }
    reading.facts.port_mappers.push(mapper);
}

/// Package `ddns`: names under which the address is published.
pub(super) fn dynamic_names(package: &Package, export: &Export, reading: &mut Reading) {
    for section in package.of("service").filter(|one| one.is_on("enabled") == Some(true)) {
        let name = section.get("lookup_host").or_else(|| section.get("domain"));
        let token = section.get("password");
        if let Some(said) = token {
            let owner = section.name.as_deref().unwrap_or("ddns");
            hold(export, &mut reading.facts, export.text_at(said.value), SecretKind::Token, owner);
        }
        let plain = section.is_on("use_https") != Some(true);
        reading.facts.dynamic_names.push(DynamicName {
            program: "ddns-scripts",
            names: name.into_iter().map(|said| (said.text.clone(), said.line)).collect(),
            token: token.map(|said| said.line),
            plain: plain.then(|| section.get("use_https").map_or(section.origin, |said| said.line)),
            origin: section.whole(),
        });
    }
}

/// Package `dhcp`: ranges that dnsmasq assigns, and clients it answers.
pub(super) fn addresses_and_names(
    package: &Package,
    networks: &Networks,
    reading: &mut Reading,
    told: &mut Vec<(Origin, String)>,
) {
    let Some(first) = package.sections.first() else { return };
    let mut server = DhcpServer {
        keeps_reserved: true,
        keeps_own: true,
        ..DhcpServer::new("dnsmasq", "dhcp", first.origin)
    };
    for section in package.of("dhcp") {
        let Some(said) = section.get("interface") else { continue };
        if section.is_on("ignore") == Some(true) || section.text("dhcpv4") == Some("disabled") {
            continue;
        }
        let Some(net) = networks.network(&said.text) else {
            told.push((
                said.line,
                format!(
                    "the interface `{}` has no static IPv4 address, so the range assigned there is not known",
                    said.text
                ),
            ));
            continue;
        };
        server.interfaces.extend(networks.devices(&said.text));
        let mut subnet = DhcpSubnet::new(Some(net.trunc()), section.whole());
        match pool(section, net) {
            Some(range) => {
                subnet.ranges.push((range, section.get("start").map_or(section.origin, |said| said.line)))
            }
            None => told.push((section.origin, "`start` and `limit` leave no address of the network".into())),
        }
        subnet.routers.push((IpRange::from(net.addr()), section.origin));
        server.subnets.push(subnet);
    }
    for section in package.of("host") {
        let Some(said) = section.get("ip") else { continue };
        let who = section.text("name").or_else(|| section.text("mac")).unwrap_or("a host").to_owned();
        match said.text.parse::<IpAddr>() {
            Ok(address) => server.reservations.push(Reservation {
                who,
                address: address.into(),
                origin: section.whole(),
            }),
            Err(_) if said.text == "ignore" => {}
            Err(_) => told.push((said.line, crate::addresses::what_is_wrong(&said.text))),
        }
    }
    if !server.subnets.is_empty() || !server.reservations.is_empty() {
        reading.facts.dhcp_servers.push(server);
    }
    for section in package.of("dnsmasq") {
        names(section, networks, reading);
    }
}

/// Addresses from `start`, counted from the network's own, `limit` of them (OpenWrt, dnsmasq.init: dhcp_add).
fn pool(section: &Section, net: IpNet) -> Option<IpRange> {
    let IpNet::V4(net) = net else { return None };
    let number =
        |option: &str, usual: u32| section.text(option).map_or(Some(usual), |text| text.parse::<u32>().ok());
    let (start, limit) = (number("start", 100)?, number("limit", 150)?);
    let first = u32::from(net.network()).checked_add(start)?;
    let last = first.checked_add(limit.checked_sub(1)?)?.min(u32::from(net.broadcast()).checked_sub(1)?);
    IpRange::new(Ipv4Addr::from(first).into(), Ipv4Addr::from(last).into()).ok()
}

fn names(section: &Section, networks: &Networks, reading: &mut Reading) {
    let port: u16 = section.text("port").and_then(|text| text.parse().ok()).unwrap_or(53);
    if port == 0 {
        return;
    }
    let mut served =
        Served::new(ServedKind::Names, "dnsmasq", "DNS server (dnsmasq)", &["dnsmasq"], section.whole());
    let mut places = Vec::new();
    for (name, said) in section.all("interface") {
        places.extend(networks.devices(name).into_iter().map(|device| (Some(device), said.line)));
    }
    if places.is_empty() {
        places.push((None, section.origin));
    }
    for (interface, origin) in places {
        for protocol in [Protocol::UDP, Protocol::TCP] {
            let place = Endpoint::everywhere(protocol, port, TransportSecurity::Plain, origin);
            served.endpoints.push(Endpoint { interface: interface.clone(), ..place });
        }
    }
    let mut part = ServiceResource::new(PartKind::Whole, "DNS server (dnsmasq)", section.whole());
    part.login = Setting::Stated { value: AuthRequirement::Nothing, origin: section.origin };
    part.remarks.push((Remark::Recursion, section.origin));
    // Only hosts of attached networks are answered (dnsmasq(8), --local-service).
    if section.is_on("localservice").unwrap_or(true) {
        let origin = section.get("localservice").map_or(section.origin, |said| said.line);
        part.sources = Sources::of(attached(reading), vec![origin]);
    }
    served.parts.push(part);
    reading.facts.served.push(served);
}

/// Networks that the device is on, and itself.
fn attached(reading: &Reading) -> Vec<IpRange> {
    let own = reading.facts.stored_interfaces.iter().flat_map(|one| &one.addresses);
    let mut found: Vec<IpRange> = own.map(|address| IpRange::from(address.net.trunc())).collect();
    found.extend(crate::serving::loopback());
    found
}

/// Package `samba4` or `samba`: shares.
pub(super) fn shares(package: &Package, networks: &Networks, reading: &mut Reading) {
    let Some(first) = package.sections.first() else { return };
    let mut served = Served::new(ServedKind::Shares, "Samba", "SMB server (Samba)", &["smbd"], first.origin);
    let global = package.sections.iter().find(|one| one.kind == "samba" || one.kind == "globals");
    let interfaces: Vec<(String, Origin)> = global
        .into_iter()
        .flat_map(|global| global.all("interface"))
        .flat_map(|(name, said)| {
            networks.devices(name).into_iter().map(|device| (device, said.line)).collect::<Vec<_>>()
        })
        .collect();
    for port in [445, 139] {
        let place = Endpoint::everywhere(Protocol::TCP, port, TransportSecurity::Optional, first.origin);
        if interfaces.is_empty() {
            served.endpoints.push(place);
        } else {
            let at = interfaces.iter().map(|(device, origin)| Endpoint {
                interface: Some(device.clone()),
                origin: *origin,
                ..place.clone()
            });
            served.endpoints.extend(at);
        }
    }
    for section in package.of("sambashare") {
        let Some(name) = section.text("name") else { continue };
        let mut part = ServiceResource::new(PartKind::Share, name, section.whole());
        part.path = section.text("path").map(str::to_owned);
        let guests = section.get("guest_ok").filter(|said| said.text == "yes");
        part.login = match guests {
            Some(said) => Setting::Stated { value: AuthRequirement::Nothing, origin: said.line },
            None => Setting::Stated { value: AuthRequirement::Proof, origin: section.origin },
        };
        let read_only = section.text("read_only") != Some("no");
        let line = section.get("read_only").map_or(section.origin, |said| said.line);
        part.writes = Setting::Stated { value: !read_only, origin: line };
        part.users = section.all("users").flat_map(|(word, _)| word.split(',')).map(str::to_owned).collect();
        served.parts.push(part);
    }
    reading.facts.served.push(served);
}

/// Package `snmpd`: communities, from where, and at which address.
pub(super) fn monitoring(package: &Package, export: &Export, reading: &mut Reading) {
    let Some(first) = package.sections.first() else { return };
    let mut served =
        Served::new(ServedKind::Monitoring, "Net-SNMP", "SNMP agent (snmpd)", &["snmpd"], first.origin);
    for section in package.of("agent") {
        for (word, said) in
            section.all("agentaddress").flat_map(|(word, said)| word.split(',').map(move |one| (one, said)))
        {
            let (protocol, rest) = match word.split_once(':') {
                Some((name, rest)) if name.to_ascii_lowercase().starts_with("tcp") => (Protocol::TCP, rest),
                Some((name, rest)) if name.to_ascii_lowercase().starts_with("udp") => (Protocol::UDP, rest),
                _ => (Protocol::UDP, word),
            };
            let place = match rest.parse::<u16>() {
                Ok(port) => {
                    Some(Endpoint::everywhere(protocol, port, TransportSecurity::Optional, said.line))
                }
                Err(_) => endpoint(rest, TransportSecurity::Optional, said.line)
                    .map(|one| Endpoint { protocol, ..one }),
            };
            let v6 = word.to_ascii_lowercase().starts_with("udp6");
            served.endpoints.extend(
                place.map(|one| Endpoint { families: if v6 { Families::V6 } else { one.families }, ..one }),
            );
        }
    }
    if served.endpoints.is_empty() {
        served.endpoints.push(Endpoint::everywhere(
            Protocol::UDP,
            161,
            TransportSecurity::Optional,
            first.origin,
        ));
    }
    let writes = |name: &str| {
        let mut groups = package
            .of("group")
            .filter(|one| one.text("secname") == Some(name))
            .filter_map(|one| one.text("group"));
        groups.any(|group| {
            package.of("access").any(|one| {
                one.text("group") == Some(group) && one.text("write").is_some_and(|view| view != "none")
            })
        })
    };
    for section in package.of("com2sec").chain(package.of("com2sec6")) {
        let (Some(name), Some(community)) = (section.text("secname"), section.get("community")) else {
            continue;
        };
        let held =
            hold(export, &mut reading.facts, export.text_at(community.value), SecretKind::Community, name);
        let mut part = ServiceResource::new(PartKind::Community, name, section.whole());
        part.login = match held {
            Some(_) => Setting::Stated { value: AuthRequirement::Community, origin: community.line },
            None => Setting::Stated { value: AuthRequirement::Nothing, origin: community.line },
        };
        part.writes = Setting::Stated { value: writes(name), origin: section.origin };
        part.encryption = Some(Setting::Stated { value: Requirement::Never, origin: section.origin });
        if let Some(said) = section.get("source").filter(|said| said.text != "default") {
            let mut sources = Sources { origins: vec![said.line], ..Sources::default() };
            crate::serving::host(&said.text, &mut sources);
            part.sources = sources;
        }
        served.parts.push(part);
    }
    reading.facts.served.push(served);
}

/// Package `system`: where the log goes and whose clock is followed.
pub(super) fn system(package: &Package, reading: &mut Reading) {
    for section in package.of("system") {
        let mut keeper =
            LogKeeper { program: "logd", targets: Vec::new(), open: Vec::new(), origin: section.whole() };
        if let Some(said) = section.get("log_ip") {
            // By UDP unless stated otherwise (OpenWrt, log.init).
            let reliable = section.text("log_proto") == Some("tcp");
            keeper.targets.push(LogTarget {
                host: said.text.clone(),
                carried: TransportSecurity::Plain,
                reliable,
                origin: said.line,
            });
        }
        reading.facts.log_keepers.push(keeper);
    }
    for section in package.of("timeserver") {
        let off = section.is_on("enabled") == Some(false);
        let sources =
            section.all("server").filter(|_| !off).map(|(word, said)| (word.to_owned(), said.line)).collect();
        reading.facts.clock_keepers.push(ClockKeeper {
            program: "sysntpd",
            sources,
            open: Vec::new(),
            origin: section.whole(),
        });
        if section.is_on("enable_server") == Some(true) && !off {
            let mut served = Served::new(
                ServedKind::Time,
                "sysntpd",
                "NTP server (sysntpd)",
                &["sysntpd"],
                section.whole(),
            );
            let line = section.get("enable_server").map_or(section.origin, |said| said.line);
            served.endpoints.push(Endpoint::everywhere(Protocol::UDP, 123, TransportSecurity::Plain, line));
            let mut part = ServiceResource::new(PartKind::Whole, "NTP server (sysntpd)", line);
            part.login = Setting::Stated { value: AuthRequirement::Nothing, origin: line };
            served.parts.push(part);
            reading.facts.served.push(served);
        }
    }
}
