//! The table of well-known ports.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::sync::LazyLock;

/// Purpose of a service.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Deserialize, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum PortKind {
    /// Setting up and looking after devices.
    Management,
    /// A command line.
    Shell,
    /// A screen from afar.
    Desktop,
    /// Files and disks.
    Files,
    /// A database.
    Database,
    /// Machines and buildings.
    Industrial,
    /// A tunnel or a relay.
    Tunnel,
    /// Names.
    Names,
    /// The time.
    Time,
    /// Who may log in, and directories.
    Login,
    /// Handing out addresses.
    Addresses,
    /// Pages.
    Web,
    /// Mail.
    Mail,
    /// Calls and pictures.
    Voice,
    /// Printing.
    Printing,
    /// Watching.
    Monitoring,
    /// Messages between machines.
    Messages,
    /// Opening ports on request.
    Mapping,
    /// Any other purpose.
    Other,
}

impl PortKind {
    /// The kind in words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Management => "management",
            Self::Shell => "remote shell",
            Self::Desktop => "remote desktop",
            Self::Files => "file sharing",
            Self::Database => "database",
            Self::Industrial => "industrial protocol",
            Self::Tunnel => "tunnel",
            Self::Names => "DNS",
            Self::Time => "NTP",
            Self::Login => "authentication",
            Self::Addresses => "DHCP",
            Self::Web => "web",
            Self::Mail => "mail",
            Self::Voice => "voice and video",
            Self::Printing => "printing",
            Self::Monitoring => "monitoring",
            Self::Messages => "messages",
            Self::Mapping => "port mapping",
            Self::Other => "other",
        }
    }
}

/// Whether what passes can be read on the way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Deserialize, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Encrypted {
    /// It is encrypted.
    Yes,
    /// It is not.
    No,
    /// The protocol can be, and need not.
    May,
}

/// A row of the table.
#[derive(Debug, Deserialize)]
pub struct KnownPort {
    /// Number.
    pub number: u16,
    protocol: String,
    /// Name of the service.
    pub name: String,
    /// Purpose.
    pub kind: PortKind,
    /// Whether it is encrypted.
    pub encrypted: Encrypted,
    /// Whether the protocol is no longer fit for use.
    #[serde(default)]
    pub obsolete: bool,
    /// Whether answers to forged requests are larger than these.
    #[serde(default)]
    pub amplifies: bool,
    /// Where it is laid down.
    pub source: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    port: Vec<KnownPort>,
}

trevlin_model::table! { static TABLE: Table = "../../tables/ports.toml"; }

static BY_NUMBER: LazyLock<BTreeMap<(u8, u16), &'static KnownPort>> = LazyLock::new(|| {
    let number = |one: &KnownPort| if one.protocol == "tcp" { 6 } else { 17 };
    TABLE.port.iter().map(|one| ((number(one), one.number), one)).collect()
});

/// Loads the table of ports.
pub fn prepare() {
    LazyLock::force(&BY_NUMBER);
}

/// Entry of the port table, by the number of the transport protocol.
#[must_use]
pub fn known_port(protocol: u8, port: u16) -> Option<&'static KnownPort> {
    BY_NUMBER.get(&(protocol, port)).copied()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_is_whole_and_sourced() {
        assert!(TABLE.port.len() > 100);
        assert_eq!(BY_NUMBER.len(), TABLE.port.len(), "each port once");
        for one in &TABLE.port {
            assert!(matches!(one.protocol.as_str(), "tcp" | "udp") && !one.source.is_empty(), "{}", one.name);
            assert!(
                !one.amplifies || one.protocol == "udp",
                "{}: requests over TCP cannot be forged",
                one.name
            );
        }
        let order = TABLE.port.iter().map(|one| one.number);
        assert!(order.is_sorted());
        assert_eq!(known_port(6, 23).map(|one| (one.kind, one.obsolete)), Some((PortKind::Shell, true)));
        assert!(known_port(17, 23).is_none());
    }
}
