//! Connections that a service takes on and opens anew to another server.

use crate::served::{AuthRequirement, Endpoint, Sources};
use crate::written::Word;
use crate::{Origin, Protocol};
use serde::{Deserialize, Serialize};

/// One server to which a service hands on the connections, or requests, that it takes on.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Relay {
    /// The program.
    #[serde(deserialize_with = "crate::written::word::one")]
    pub program: Word,
    /// Name for people; a service of the same program and name is the same.
    pub name: String,
    /// Units of systemd that start it, without `.service`.
    #[serde(default)]
    pub units: Vec<String>,
    /// Where it takes connections on.
    pub endpoints: Vec<Endpoint>,
    /// For HTTP the path whose requests are handed on, as the server's file writes it; none where connections are handed on as they are.
    pub path: Option<String>,
    /// For HTTP further paths, or patterns of them, that other lines of the server's file decide.
    #[serde(default)]
    pub elsewhere: Vec<String>,
    /// The server: an address or a name, as written, without a port.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// Transport protocol to the server.
    pub protocol: Protocol,
    /// For HTTP the path that takes the place of the requested one; none where the request's path is kept.
    pub onward: Option<String>,
    /// From where connections are taken on.
    #[serde(with = "crate::written::everybody")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<Sources>"))]
    pub sources: Sources,
    /// Authentication that the relay itself requires; none where it requires nothing.
    pub login: Option<AuthRequirement>,
    /// The host that opens the connection to the server, where it is not the relay's own device: the other end of an SSH connection.
    pub opened_by: Option<String>,
    /// The line by which the server learns the client's address and not that of the relay: the PROXY protocol, or transparent relays.
    pub source_kept_origin: Option<Origin>,
    /// The line that names the server.
    pub origin: Origin,
}

impl Relay {
    /// A relay of TCP connections as they are, from any address to a server.
    #[must_use]
    pub fn new(
        program: Word,
        name: impl Into<String>,
        (host, port): (impl Into<String>, u16),
        origin: Origin,
    ) -> Self {
        Self {
            program,
            name: name.into(),
            units: Vec::new(),
            endpoints: Vec::new(),
            path: None,
            elsewhere: Vec::new(),
            host: host.into(),
            port,
            protocol: Protocol::TCP,
            onward: None,
            sources: Sources::everybody(),
            login: None,
            opened_by: None,
            source_kept_origin: None,
            origin,
        }
    }

    /// Whether requests are understood and handed on, instead of connections.
    #[must_use]
    pub fn is_of_pages(&self) -> bool {
        self.path.is_some()
    }

    /// The server with its port, as written.
    #[must_use]
    pub fn target(&self) -> String {
        if self.host.contains(':') {
            format!("[{}]:{}", self.host, self.port)
        } else {
            format!("{}:{}", self.host, self.port)
        }
    }
}
