//! Keys for IKE that are shared in advance (RFC 7296, 2.15).

use crate::{Origin, SecretRecord};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// Identities that match any peer.
const ANY: [&str; 5] = ["%any", "%any6", "0.0.0.0", "0::0", "::"];

/// A pre-shared key and its peers.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct PreSharedKey {
    /// Identities of the two ends, or of all that share it; none where it is valid for any peer.
    pub identities: Vec<String>,
    /// The key, its encoding resolved.
    pub held: Arc<SecretRecord>,
    /// The line.
    pub origin: Origin,
}

impl PreSharedKey {
    /// The identity of a key whose peers the description of an appliance does not state.
    pub const PEERS_NOT_STATED: &str = "peers not stated";

    /// Whether its peers are known.
    #[must_use]
    pub fn has_peers(&self) -> bool {
        !self.identities.iter().any(|one| one == Self::PEERS_NOT_STATED)
    }

    /// Whether it is valid for any peer: no identity, or a placeholder for any (ipsec.secrets(5)).
    #[must_use]
    pub fn is_for_anybody(&self) -> bool {
        self.identities.is_empty() || self.identities.iter().any(|one| ANY.contains(&one.as_str()))
    }

    /// Its peers, in words.
    #[must_use]
    pub fn whom(&self) -> String {
        let named: Vec<&str> =
            self.identities.iter().map(String::as_str).filter(|one| !ANY.contains(one)).collect();
        match named.as_slice() {
            [] => "any peer".into(),
            [Self::PEERS_NOT_STATED] => "peers that are not stated".into(),
            named if named.len() < self.identities.len() => {
                format!("{} and any peer", named.join(" and "))
            }
            named => named.join(" and "),
        }
    }
}
