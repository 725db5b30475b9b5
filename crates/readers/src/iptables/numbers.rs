//! Numbers of protocols and ports by their names.

use serde::Deserialize;
use std::collections::BTreeMap;
use trevlin_model::Protocol;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Names<T> {
    pub(crate) names: BTreeMap<String, T>,
}

/// Protocol numbers by name.
pub(crate) fn protocols() -> &'static BTreeMap<String, u8> {
    &PROTOCOL_NAMES.names
}

/// Port numbers by service name.
pub(crate) fn services() -> &'static BTreeMap<String, u16> {
    &SERVICE_NAMES.names
}

trevlin_model::table! { static PROTOCOL_NAMES: Names<u8> = "../../tables/protocols.toml"; }
trevlin_model::table! { static SERVICE_NAMES: Names<u16> = "../../tables/services.toml"; }

/// A protocol by name or number; 0 is any.
pub(crate) fn protocol(text: &str) -> Option<Protocol> {
    let number = text.parse().ok().or_else(|| protocols().get(&text.to_ascii_lowercase()).copied())?;
    Some(Protocol(if number == 0 { None } else { Some(number) }))
}
