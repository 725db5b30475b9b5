//! Programs that are configured and that nothing starts: their units are disabled or masked, and no socket shows the contrary.
//!
//! Services with a list of units of their own keep their place among the facts and are marked there.

use trevlin_model::housekeeping::{Unit, off_unit};
use trevlin_model::ssh::{OPENSSH, SshConnection, SshServer};
use trevlin_model::{Facts, Origin};
use trevlin_model::{IdleConfiguration, IdleProgram};

/// Units of each program, as packages name them, without their endings.
const UNITS: &[(&str, &[&str])] = &[
    (OPENSSH, &["ssh", "sshd"]),
    ("Dropbear", &["dropbear"]),
    ("dhcpd", &["isc-dhcp-server", "dhcpd"]),
    ("Kea", &["kea-dhcp4-server", "kea-dhcp4", "kea"]),
    ("dnsmasq", &["dnsmasq"]),
    ("systemd-networkd", &["systemd-networkd"]),
    ("rsyslog", &["rsyslog"]),
    ("systemd-timesyncd", &["systemd-timesyncd"]),
    ("chrony", &["chrony", "chronyd"]),
    ("ntpd", &["ntp", "ntpd", "ntpsec", "openntpd"]),
    ("ddclient", &["ddclient"]),
    ("inadyn", &["inadyn"]),
];

/// Units of a RADIUS server.
const RADIUS: &[&str] = &["freeradius", "radiusd"];
/// Units of a port mapping daemon.
const MAPPERS: &[&str] = &["miniupnpd", "upnpd", "linux-igd"];
/// Units of an access point.
const RADIOS: &[&str] = &["hostapd"];
/// Settings of the journal are one program, whose upload is a unit of its own.
const UPLOAD: &[&str] = &["systemd-journal-upload"];

/// The unit that shows that none of these is started.
fn off(units: &[Unit], names: &[&str]) -> Option<Unit> {
    off_unit(units, |name| names.contains(&name)).cloned()
}

fn units_of(program: &str) -> &'static [&'static str] {
    UNITS.iter().find(|(name, _)| *name == program).map_or(&[], |(_, units)| units)
}

/// Sets aside the programs that nothing starts.
pub(super) fn set_aside<'a>(facts: &mut Facts, path_of: impl Fn(Origin) -> &'a str) {
    if facts.units.is_empty() {
        return;
    }
    let units = std::mem::take(&mut facts.units);
    let mut idle: Vec<IdleProgram> = Vec::new();
    let sockets = std::mem::take(&mut facts.sockets);
    let seen = |protocol: u8, ports: &[u16]| {
        sockets.iter().any(|one| one.protocol.0 == Some(protocol) && ports.contains(&one.port))
    };
    macro_rules! aside {
        ($list:ident, $kind:ident, $of:expr) => {{
            let mut kept = Vec::new();
            for one in std::mem::take(&mut facts.$list) {
                match $of(&one) {
                    Some(unit) => {
                        idle.push(IdleProgram { configured: IdleConfiguration::$kind(one), unit });
                    }
                    None => kept.push(one),
                }
            }
            facts.$list = kept;
        }};
    }
    aside!(ssh_servers, Ssh, |one: &SshServer| {
        (!seen(6, &ssh_ports(one))).then(|| off(&units, units_of(one.program))).flatten()
    });
    aside!(dhcp_servers, Dhcp, |one: &trevlin_model::dhcp::DhcpServer| {
        (!seen(17, &[67])).then(|| off(&units, units_of(one.daemon))).flatten()
    });
    aside!(port_mappers, PortMapper, |one: &trevlin_model::listen::PortMapper| {
        let own = one.port.map(|(port, _)| port);
        let runs = seen(17, &[1900, 5351]) || own.is_some_and(|port| seen(6, &[port]));
        (!runs).then(|| off(&units, MAPPERS)).flatten()
    });
    aside!(dynamic_names, DynamicName, |one: &trevlin_model::listen::DynamicName| {
        off(&units, units_of(one.program))
    });
    aside!(log_keepers, Log, |one: &trevlin_model::housekeeping::LogKeeper| {
        let upload = path_of(one.origin).contains("journal-upload");
        off(&units, if upload { UPLOAD } else { units_of(one.program) })
    });
    aside!(clock_keepers, Clock, |one: &trevlin_model::housekeeping::ClockKeeper| {
        off(&units, units_of(one.program))
    });
    aside!(radios, Radio, |_: &trevlin_model::housekeeping::Radio| off(&units, RADIOS));
    if !seen(17, &[1812, 1813])
        && let Some(origin) = facts.radius_sites.first().map(|one| one.origin)
        && let Some(unit) = off(&units, RADIUS)
    {
        // Clients, users and upstreams are the server's own; requests of the device's services to another server are not.
        facts.radius_sites.clear();
        facts.radius_clients.clear();
        facts.radius_entries.clear();
        facts.radius_upstreams.clear();
        facts.eap_settings.clear();
        facts.radius_security.clear();
        idle.push(IdleProgram { configured: IdleConfiguration::Radius(origin), unit });
    }
    facts.units = units;
    facts.sockets = sockets;
    facts.idle_programs = idle;
}

/// Ports of a SSH server (sshd_config(5), Port, ListenAddress).
fn ssh_ports(server: &SshServer) -> Vec<u16> {
    let everybody = SshConnection::default();
    let numbers = |keyword: &str| -> Vec<u16> {
        let setting = server.effective(keyword, &everybody);
        let texts: Vec<&String> = setting.possible().flatten().collect();
        texts.iter().filter_map(|one| one.rsplit(':').next()?.parse().ok()).collect()
    };
    let stated: Vec<u16> = ["port", "listenaddress"].into_iter().flat_map(numbers).collect();
    if stated.is_empty() { vec![22] } else { stated }
}

#[cfg(test)]
mod tests {
    use crate::testing::estate;

    const HEAD: &str = "UNIT FILE STATE PRESET\n";

    #[test]
    fn a_program_whose_unit_is_off_is_idle_unless_a_socket_shows_it() {
        for (file, text, unit, sockets, wanted) in [
            ("etc/ssh/sshd_config", "Port 2200\n", "ssh.service disabled", "", 1),
            ("etc/ssh/sshd_config", "Port 2200\n", "ssh.service disabled", "tcp LISTEN 0 9 *:2200 *:*\n", 0),
            ("etc/ssh/sshd_config", "Port 2200\n", "ssh.service masked", "tcp LISTEN 0 9 *:22 *:*\n", 1),
            ("etc/ssh/sshd_config", "Port 2200\n", "ssh.service disabled\nssh.socket enabled", "", 0),
            ("etc/ssh/sshd_config", "Port 2200\n", "sshd.service alias\nssh.service enabled", "", 0),
            ("etc/rsyslog.conf", "*.* @10.4.0.9\n", "rsyslog.service disabled", "", 1),
            ("etc/chrony/chrony.conf", "pool a.example\n", "chrony.service masked", "", 1),
            ("etc/chrony/chrony.conf", "pool a.example\n", "ntpsec.service masked", "", 0),
            (
                "etc/dhcp/dhcpd.conf",
                "subnet 10.4.0.0 netmask 255.255.255.0 { range 10.4.0.9 10.4.0.99; }\n",
                "isc-dhcp-server.service disabled",
                "",
                1,
            ),
            (
                "etc/hostapd/hostapd.conf",
                "interface=wlan0\nssid=Depot\nhw_mode=g\n",
                "hostapd.service masked",
                "",
                1,
            ),
            (
                "etc/systemd/journal-upload.conf",
                "[Upload]\nURL=http://10.4.0.9\n",
                "rsyslog.service disabled",
                "",
                0,
            ),
            (
                "etc/systemd/journal-upload.conf",
                "[Upload]\nURL=http://10.4.0.9\n",
                "systemd-journal-upload.service disabled",
                "",
                1,
            ),
        ] {
            let (path, units) = (format!("d/{file}"), format!("{HEAD}{unit} enabled\n"));
            let mut files = vec![(path.as_str(), text), ("d/units.txt", units.as_str())];
            if !sockets.is_empty() {
                files.push(("d/ss.txt", sockets));
            }
            let estate = estate(&files);
            assert_eq!(estate.devices[0].facts.idle_programs.len(), wanted, "{file} {unit} {sockets}");
        }
    }

    #[test]
    fn a_radius_server_that_is_off_has_no_clients_and_no_users() {
        let files = [
            ("d/etc/freeradius/3.0/clients.conf", "client a {\n\tipaddr = 10.4.0.9\n\tsecret = x\n}\n"),
            (
                "d/etc/freeradius/3.0/sites-enabled/default",
                "server default {\n\tlisten {\n\t\ttype = auth\n\t}\n\tauthorize {\n\t\tfiles\n\t}\n}\n",
            ),
            ("d/units.txt", "UNIT FILE STATE PRESET\nfreeradius.service disabled enabled\n"),
        ];
        let estate = estate(&files);
        let facts = &estate.devices[0].facts;
        assert_eq!(
            (facts.radius_clients.len(), facts.radius_sites.len(), facts.idle_programs.len()),
            (0, 0, 1)
        );
    }
}
