//! Methods of authentication: `plain[passwd=FILE,otp=FILE]`, `pam`, `radius[…]`, `certificate` and so on (ocserv(8)).

use trevlin_model::{Origin, PasswordCheck, PasswordSource};

/// One method.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Method {
    /// A client certificate.
    Certificate,
    /// A password verified by a service.
    Password(PasswordSource),
}

impl Method {
    /// Whether a password is required.
    pub(super) fn asks_password(&self) -> bool {
        matches!(self, Self::Password(source) if !matches!(source, PasswordSource::Directory | PasswordSource::IdentityProvider))
    }

    /// The check of a password, where there is one.
    pub(super) fn check(&self, origin: Origin) -> Option<PasswordCheck> {
        match self {
            Self::Certificate => None,
            Self::Password(source) => Some(PasswordCheck { source: source.clone(), optional: false, origin }),
        }
    }
}

/// The method that a value names.
pub(super) fn method(value: &str) -> Option<Method> {
    let (name, rest) = value.split_once('[').unwrap_or((value, ""));
    let option = |wanted: &str| {
        let options = rest.trim_end().trim_end_matches(']').split(',');
        options
            .filter_map(|one| one.split_once('='))
            .find(|(name, _)| name.trim() == wanted)
            .map(|(_, value)| value.trim())
    };
    Some(match name.trim() {
        "certificate" => Method::Certificate,
        "plain" => {
            let list = option("passwd").unwrap_or("/etc/ocserv/ocpasswd").to_owned();
            Method::Password(match option("otp") {
                Some(_) => PasswordSource::LocalListAndCode(list),
                None => PasswordSource::LocalList(list),
            })
        }
        // The daemon's PAM service is its own name.
        "pam" => Method::Password(PasswordSource::Pam("ocserv".into())),
        "radius" => Method::Password(PasswordSource::Radius),
        "gssapi" => Method::Password(PasswordSource::Directory),
        "oidc" => Method::Password(PasswordSource::IdentityProvider),
        _ => return None,
    })
}
