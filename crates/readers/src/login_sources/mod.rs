//! Systems elsewhere that a host takes accounts from, and the servers that keep them: SSSD, nslcd, the list of name services, Kerberos, NIS.

pub(crate) mod kdc;
pub(crate) mod kerberos;
pub(crate) mod ldap_client;
pub(crate) mod nis;
pub(crate) mod nslcd;
pub(crate) mod nsswitch;
mod profile;
pub(crate) mod sssd;
#[cfg(test)]
mod tests;

use crate::serving;
use trevlin_model::login_source::{LoginServer, ServerProof, ServerProofKind};
use trevlin_model::served::TransportSecurity;
use trevlin_model::{Export, Origin, Setting};

/// The first line that states something; the file's beginning where none does.
fn first_line(export: &Export) -> Origin {
    serving::entries(export).next().map_or_else(|| export.origin(0..0), |text| export.origin_of(text))
}

/// A server of LDAP by its URI (RFC 4516), which takes passwords too. Nothing for other texts.
fn server_of(uri: &str, origin: Origin) -> Option<LoginServer> {
    let (scheme, rest) = uri.split_once("://")?;
    let place = rest.split(['/', '?']).next().unwrap_or_default();
    let scheme = scheme.to_ascii_lowercase();
    let carried = match scheme.as_str() {
        "ldap" => TransportSecurity::Plain,
        "ldaps" => TransportSecurity::Encrypted,
        // A socket in the file system, by its encoded path.
        "ldapi" => {
            let path = if place.is_empty() {
                "/run/slapd/ldapi".to_owned()
            } else {
                place.replace("%2f", "/").replace("%2F", "/")
            };
            return Some(LoginServer {
                host: path,
                port: None,
                accounts: Some(TransportSecurity::Encrypted),
                passwords: Some(TransportSecurity::Encrypted),
                origin,
                decided_origin: origin,
            });
        }
        _ => return None,
    };
    let (host, port) = serving::host_and_port(place);
    Some(LoginServer {
        host: host.unwrap_or("localhost").to_owned(),
        port,
        accounts: Some(carried),
        passwords: Some(carried),
        origin,
        decided_origin: origin,
    })
}

/// A server that DNS or a broadcast finds.
fn found_server(carried: TransportSecurity, origin: Origin) -> LoginServer {
    LoginServer {
        host: String::new(),
        port: None,
        accounts: Some(carried),
        passwords: Some(carried),
        origin,
        decided_origin: origin,
    }
}

/// Whether a certificate is demanded, by the word of ldap.conf(5), TLS_REQCERT. `try` ends a connection with a bad one, and TLS without any
/// is not offered.
fn certificate(
    stated: Option<(&str, Origin)>,
    daemon: &'static str,
    source: &'static str,
) -> Option<ServerProof> {
    let demanded = match stated {
        None => Setting::default_of(true, daemon, source),
        Some((word, origin)) => {
            let value = match word.to_ascii_lowercase().as_str() {
                "never" | "allow" => false,
                "try" | "demand" | "hard" => true,
                _ => return None,
            };
            Setting::Stated { value, origin }
        }
    };
    Some(ServerProof { kind: ServerProofKind::Certificate, demanded })
}
