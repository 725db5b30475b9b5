//! Readers turn the bytes of one export into facts.
//!
//! One file (or folder) per format, and one line in [`READERS`]. A reader never fails: an unreadable part becomes a note at a line of its
//! ledger, and the rest of the file is still read.
//!
//! ```
//! use trevlin_model::{Export, ExportId};
//! use trevlin_readers::{ReadContext, decode, recognise};
//!
//! let text = decode(b"option /etc/ppp/pptpd-options\nremoteip 10.4.0.10-20\n").unwrap();
//! let export = Export::new(ExportId(0), "dial-in/etc/pptpd.conf", text);
//! let reader = recognise(&export).reader.unwrap();
//! let reading = (reader.read)(&export, &ReadContext::default());
//! assert_eq!((reader.name, reading.facts.tunnels.len()), ("pptpd", 1));
//! ```

mod accounts;
mod addresses;
mod agents;
mod angles;
pub mod announced;
pub mod archive;
mod authorized_keys;
mod bearing;
mod braces;
pub mod collecting;
mod commands;
mod consoles;
mod containers;
mod copies;
mod credentials;
mod data;
mod decode;
mod dhcp;
mod directory;
mod distribution;
mod dynamic_dns;
mod encapsulation;
mod files;
mod firewalld;
mod format_hints;
mod growth;
mod guards;
mod icmp;
mod ike;
pub mod includes;
mod ini;
mod ip_json;
mod ipsec_secrets;
mod iptables;
mod json;
mod keyed;
mod live;
mod login_access;
mod login_sources;
mod mail;
mod making;
mod named;
mod naming;
mod network;
mod nft;
mod ocserv;
mod openvpn;
mod pam;
mod pem;
mod phrasebook;
mod places;
mod port_mapper;
mod ppp;
mod programs;
mod proxies;
mod radio;
mod radius;
mod reader;
mod relaying;
pub mod scrub;
mod serving;
mod settings;
mod sheet;
mod snmp;
mod sockets;
mod sshd;
mod starts;
mod stunnel;
mod sudoers;
mod suites;
mod supers;
mod sysctl;
mod telling;
#[cfg(test)]
mod testing;
mod tls;
mod uci;
mod ufw;
mod unread_filters;
mod upkeep;
mod web;
mod x509;
mod xml;
mod yaml;
mod yang;

pub use bearing::{bears_nothing, coheres, is_idle};
pub use copies::is_copy;
pub use decode::{DecodeError, decode, decode_whole};
pub use live::read;
pub use named::named;
pub use phrasebook::{
    BOOK, PhraseResult, Phrasebook, Shelf, Tried, guide as phrasebook_guide, proposed as phrasebook_for,
};
pub use reader::{ReadContext, Reader, Reading, Recognised, Recognition};
pub use sheet::{FORM, Head, Report, check as check_sheet, guide as sheet_guide, write as write_sheet};
#[cfg(feature = "schema")]
pub use sheet::{further_keys, schema as sheet_schema};

use trevlin_model::Export;

/// Every reader, in order of name.
pub const READERS: &[Reader] = &[
    web::apache::READER,
    consoles::avahi::READER,
    upkeep::chrony::READER,
    consoles::cockpit::READER,
    credentials::code_seeds::READER,
    containers::compose::READER,
    containers::inspect::READER,
    consoles::cups::READER,
    proxies::dante::READER,
    dynamic_dns::DDCLIENT,
    dhcp::dhcpd::READER,
    dhcp::dnsmasq::READER,
    containers::engine::READER,
    mail::dovecot::READER,
    sshd::dropbear::READER,
    programs::etcd::READER,
    mail::exim::READER,
    files::exports::READER,
    guards::fail2ban::READER,
    guards::faillock::READER,
    firewalld::READER,
    accounts::GROUP,
    web::haproxy::READER,
    radio::READER,
    files::hosts_access::READER,
    credentials::htpasswd::READER,
    network::ifupdown::READER,
    dynamic_dns::INADYN,
    supers::inetd::READER,
    data::influxdb::READER,
    ip_json::address::READER,
    ip_json::link::READER,
    ip_json::route::READER,
    ike::ipsec_conf::READER,
    ipsec_secrets::READER,
    iptables::ipset::READER,
    iptables::READER,
    files::iscsi::READER,
    upkeep::journald::READER,
    login_sources::kdc::RIGHTS,
    login_sources::kdc::READER,
    dhcp::kea::READER,
    login_sources::kerberos::READER,
    ppp::l2tp_secrets::READER,
    login_sources::ldap_client::READER,
    login_access::READER,
    data::mariadb::READER,
    programs::memcached::READER,
    agents::monit::READER,
    data::mosquitto::READER,
    naming::named::READER,
    network::netplan::READER,
    credentials::client_logins::NETRC,
    network::networkd::READER,
    files::exports::SETTINGS,
    nft::READER,
    web::nginx::READER,
    login_sources::nis::CLIENT,
    login_sources::nis::SERVER,
    agents::nrpe::READER,
    login_sources::nslcd::READER,
    login_sources::nsswitch::READER,
    upkeep::ntp::READER,
    ocserv::passwords::READER,
    ocserv::READER,
    openvpn::READER,
    credentials::shared_keys::OPENVPN_KEY,
    radius::targets::PLUG_IN,
    pam::READER,
    accounts::PASSWD,
    pem::READER,
    data::pg_hba::READER,
    credentials::client_logins::PGPASS,
    port_mapper::READER,
    mail::postfix::READER,
    data::postgresql::READER,
    ppp::options::READER,
    ppp::secrets::READER,
    ppp::pptpd::READER,
    files::ftp::PROFTPD,
    containers::quadlet::READER,
    radius::READER,
    radius::targets::LIBRARY,
    radius::targets::LIST,
    radius::users::READER,
    data::redis::READER,
    data::redis::USERS,
    programs::rpcbind::READER,
    files::rsync::READER,
    files::rsync::SECRETS,
    upkeep::rsyslog::READER,
    accounts::SHADOW,
    sheet::READER,
    directory::slapd::READER,
    files::smb::READER,
    files::smbpasswd::READER,
    snmp::READER,
    sockets::READER,
    proxies::squid::READER,
    sshd::client::READER,
    authorized_keys::READER,
    sshd::READER,
    guards::sshguard::READER,
    login_sources::sssd::READER,
    commands::READER,
    ike::strongswan_conf::READER,
    stunnel::READER,
    sudoers::READER,
    ike::swanctl::READER,
    sysctl::READER,
    programs::tftpd::READER,
    programs::vnc::READER,
    upkeep::timesyncd::READER,
    credentials::shared_keys::TLS_KEYS,
    proxies::turnserver::READER,
    uci::READER,
    ufw::READER,
    naming::unbound::READER,
    upkeep::service_units::READER,
    upkeep::units::LIST,
    upkeep::units::LINKS,
    unread_filters::READER,
    agents::nut::READER,
    agents::nut::USERS,
    agents::nut::CLIENT,
    files::ftp::VSFTPD,
    network::wireguard::READER,
    supers::xinetd::READER,
    ppp::xl2tpd::READER,
    consoles::xrdp::READER,
    yang::READER,
    agents::zabbix::READER,
];

/// Builds the tables for recognition, which takes longer than recognising a file. Call it in parallel to other work; otherwise it happens
/// on first use.
pub fn prepare() {
    format_hints::prepare();
}

/// Selects the reader of an export: by its declaration, then by content, then by name. Copies that no daemon reads have no reader.
#[must_use]
pub fn recognise(export: &Export) -> Recognised {
    if !is_copy(export) && commands::recognise(export) != Recognition::No {
        return Recognised { reader: Some(&commands::READER), ..Recognised::default() };
    }
    if is_copy(export) || bearing::is_elsewhere(export) || bearing::is_program_or_page(export) {
        return Recognised::default();
    }
    let name_alone = Export::new(export.id(), export.shared_path(), String::new());
    let named: Vec<bool> =
        READERS.iter().map(|reader| reader::recognise(reader, &name_alone) != Recognition::No).collect();
    if let Some(reader) = agreed(export, &named) {
        return Recognised { reader: Some(reader), ..Recognised::default() };
    }
    // Exports with an unknown name must contain the words of a format.
    let signs = format_hints::Found::of(export);
    let asked = READERS.iter().zip(named).filter(|(reader, named)| *named || signs.may_be(reader.name));
    let allocations: Vec<_> = asked.map(|(reader, _)| (reader, reader::recognise(reader, export))).collect();
    for wanted in [Recognition::Declared, Recognition::Content, Recognition::Name] {
        let mut claiming =
            allocations.iter().filter(|(_, allocation)| *allocation == wanted).map(|(reader, _)| *reader);
        if let Some(reader) = claiming.next() {
            let declared = wanted == Recognition::Declared;
            return Recognised { reader: Some(reader), also: claiming.collect(), declared };
        }
    }
    Recognised::default()
}

/// The only reader for files of such a name, where the content agrees: no other reader needs to examine the lines. A declared format takes
/// precedence.
fn agreed(export: &Export, named: &[bool]) -> Option<&'static Reader> {
    let mut named = READERS.iter().zip(named).filter(|(_, named)| **named).map(|(reader, _)| reader);
    let reader = named.next().filter(|_| named.next().is_none())?;
    let fits = |reader: &Reader, wanted| reader::recognise(reader, export) == wanted;
    (fits(reader, Recognition::Content) && !fits(&sheet::READER, Recognition::Declared)).then_some(reader)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::path::Path;

    #[test]
    fn a_name_and_the_content_that_agree_are_enough() {
        use trevlin_model::ExportId;
        // Another reader that comes before it takes the content for its own as well.
        let text = "conn office\n    left=198.51.100.2\nrocommunity public\n";
        for (name, text, reader) in [
            ("etc/snmp/snmpd.conf", text, "snmpd"),
            ("etc/snmp/else.txt", text, "ipsec-conf"),
            // A declaration in the export takes precedence nevertheless.
            ("etc/ssh/sshd_config", "sheet = \"trevlin-sheet/1\"\nPort 22\n", "sheet"),
        ] {
            let export = Export::new(ExportId(0), name, text.into());
            assert_eq!(recognise(&export).reader.map(|reader| reader.name), Some(reader), "{name}");
        }
    }

    /// Checks every reader, without format hints.
    fn asking_all(export: &Export) -> Option<&'static str> {
        let allocations: Vec<_> =
            READERS.iter().map(|reader| (reader, reader::recognise(reader, export))).collect();
        let of = |wanted| {
            allocations.iter().find(|(_, allocation)| *allocation == wanted).map(|(reader, _)| reader.name)
        };
        [Recognition::Declared, Recognition::Content, Recognition::Name].into_iter().find_map(of)
    }

    #[test]
    fn signs_leave_out_nobody() {
        use trevlin_model::ExportId;
        let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR"));
        let (mut folders, mut seen) = (vec![root.join("tests/cases"), root.join("../../demo")], 0);
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).unwrap().flatten() {
                let path = entry.path();
                if path.is_dir() {
                    folders.push(path);
                    continue;
                }
                let Some(text) = std::fs::read(&path).ok().and_then(|bytes| decode(&bytes).ok()) else {
                    continue;
                };
                // Under a name that says nothing, and with every line alone.
                let lines = text.lines().map(str::to_owned);
                for text in std::iter::once(text.clone()).chain(lines) {
                    let export = Export::new(ExportId(0), "kept.txt", text);
                    let found = recognise(&export).reader.map(|reader| reader.name);
                    assert_eq!(found, asking_all(&export), "{}: {}", path.display(), export.text());
                    seen += 1;
                }
            }
        }
        assert!(seen > 2_000, "{seen}");
    }

    #[test]
    fn copies_are_not_what_runs() {
        use trevlin_model::ExportId;
        for (name, reader) in [
            ("pptpd.conf", Some("pptpd")),
            ("pptpd.conf.txt", Some("pptpd")),
            ("pptpd.conf~", None),
            ("pptpd.conf.dpkg-old", None),
            ("pptpd.conf.BAK", None),
        ] {
            let export = Export::new(ExportId(0), name, "remoteip 10.4.0.9\n".into());
            assert_eq!(recognise(&export).reader.map(|reader| reader.name), reader, "{name}");
        }
    }

    /// An unregistered reader reads nothing.
    #[test]
    fn every_reader_is_registered() {
        fn below(folder: &Path, path: &[String], found: &mut Vec<String>) {
            for entry in fs::read_dir(folder).unwrap() {
                let at = entry.unwrap().path();
                let stem = at.file_stem().unwrap().to_string_lossy().into_owned();
                let mut inner = path.to_vec();
                if at.is_dir() {
                    inner.push(stem);
                    below(&at, &inner, found);
                    continue;
                }
                if !["mod", "lib"].contains(&stem.as_str()) {
                    inner.push(stem);
                }
                for line in fs::read_to_string(&at).unwrap().lines() {
                    let name =
                        line.strip_prefix("pub(crate) const ").and_then(|rest| rest.split_once(": Reader"));
                    if let Some((name, _)) = name {
                        found.push(format!("{}::{name}", inner.join("::")));
                    }
                }
            }
        }
        let sources = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
        let mut found = Vec::new();
        below(&sources, &[], &mut found);
        let list = fs::read_to_string(sources.join("lib.rs")).unwrap();
        let missing: Vec<&String> =
            found.iter().filter(|one| !list.contains(&format!("\n    {one},\n"))).collect();
        assert!(missing.is_empty(), "not among READERS in src/lib.rs: {missing:?}");
        assert_eq!(found.len(), READERS.len());
    }

    #[test]
    fn readers_are_sorted_unique_and_documented() {
        let names: Vec<_> = READERS.iter().map(|reader| reader.name).collect();
        let mut sorted = names.clone();
        sorted.sort_unstable();
        sorted.dedup();
        assert_eq!(names, sorted);
        assert!(READERS.iter().all(|reader| !reader.title.is_empty() && !reader.manual.is_empty()));
    }
}
