//! Passwords as slapd stores them.

use trevlin_model::secret::SecretKind;

/// Whether a value is a hash: `{SSHA}…` (RFC 3112 has the form; slappasswd(8)).
pub(crate) fn is_hash(text: &str) -> bool {
    text.strip_prefix('{')
        .and_then(|rest| rest.split_once('}'))
        .is_some_and(|(scheme, _)| !scheme.eq_ignore_ascii_case("CLEARTEXT"))
}

/// Kind of a stored password.
pub(crate) fn kind_of(text: &str) -> SecretKind {
    if is_hash(text) { SecretKind::PasswordHash } else { SecretKind::LoginPassword }
}
