//! Files that hold nothing but credentials: password lists of web servers, logins that programs use elsewhere, seeds of one-time codes,
//! shared keys of TLS and OpenVPN.

pub(crate) mod client_logins;
pub(crate) mod code_seeds;
pub(crate) mod htpasswd;
pub(crate) mod shared_keys;

use trevlin_model::Export;

/// Lines that state something, without comments.
fn entries(export: &Export) -> impl Iterator<Item = &str> {
    export.lines().map(|line| line.text.trim()).filter(|text| !text.is_empty() && !text.starts_with('#'))
}
