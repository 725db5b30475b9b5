//! Configurations with which the daemon refuses to start, in every version alike (openvpn(8)): nothing answers
//! then, so nothing that depends on it may be reported as fact.

use super::config::Config;
use trevlin_model::{CertificateRequirement, Origin};

/// Why the daemon would not start, with the line.
pub(super) fn of(config: &Config, serves: bool, kind: Option<&str>) -> Option<(String, Origin)> {
    if let Some((why, origin)) = &config.broken {
        return Some((why.clone(), *origin));
    }
    let no_password = config.passwords.is_empty();
    let said = |text: &str, origin: Origin| Some((text.to_owned(), origin));
    if !serves {
        return None;
    }
    if let Some((demand, at)) = &config.certificate
        && *demand != CertificateRequirement::Required
        && no_password
    {
        return said(
            "without a client certificate the daemon requires a script, a plug-in or the management interface",
            *at,
        );
    }
    if let Some(((), at)) = config.password_optional.or(config.name_from_user)
        && no_password
    {
        return said("it requires a script, a plug-in or the management interface that checks passwords", at);
    }
    if let (Some(((), at)), true) = (config.shared_key, config.server.is_some() || config.bridge.is_some()) {
        return said("a static key cannot serve several clients", at);
    }
    if let (Some(_), Some((_, at))) = (&config.server, &config.bridge) {
        return said("`server` and `server-bridge` exclude each other", *at);
    }
    if let (Some(((), at)), true) = (config.client, config.server.is_some() || config.bridge.is_some()) {
        return said("`client` and a server directive exclude each other", at);
    }
    if let (Some((_, at)), Some(((_, false), _))) = (&config.pool, &config.server) {
        return said("`server` already sets a pool; `ifconfig-pool` beside it is rejected", *at);
    }
    if let (Some((_, at)), Some("tun")) = (&config.bridge, kind) {
        return said("`server-bridge` needs a tap device", *at);
    }
    if let Some(((net, _), at)) = &config.server {
        let length = net.prefix_len();
        if !(16..=30).contains(&length) || (length > 29 && kind == Some("tun")) {
            return said(
                "the network of `server` must have a mask from 255.255.0.0 to 255.255.255.248 (tap: .252)",
                *at,
            );
        }
    }
    if let (Some((_, at)), Some(((_, true), _))) = (&config.server_ipv6, &config.server) {
        return said("`server-ipv6` cannot be combined with `nopool`", *at);
    }
    if let Some((_, at)) = &config.remote {
        return said("`remote` is not permitted on a server", *at);
    }
    None
}
