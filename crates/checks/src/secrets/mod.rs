//! Checks of the area `secrets`.

pub(super) mod certificate_expired;
pub(super) mod certificate_factory_default;
pub(super) mod certificate_name_mismatch;
pub(super) mod certificate_self_signed;
pub(super) mod certificate_shared;
pub(super) mod certificate_weak;
pub(super) mod client_key_on_server;
pub(super) mod dynamic_dns_token;
pub(super) mod password_logged;
pub(super) mod password_stored_in_clear;
pub(super) mod private_key_unencrypted;
pub(super) mod saved_password;
pub(super) mod secret_reused;
mod shown;
pub(super) mod weak_code_seed;
pub(super) mod weak_login_password;
pub(super) mod weak_password_hash;
pub mod weak_pre_shared_key;
pub(super) mod weak_radius_secret;
pub(super) mod weak_service_secret;

use crate::check::Verdict;
use trevlin_model::SecretRecord;

/// The request for a secret that exists and was withheld.
pub(super) fn withheld(held: &SecretRecord, what: &str) -> Option<Verdict> {
    held.secret.is_withheld().then(|| {
        let ask = format!(
            "{what} is withheld; please state its length, how it was created, and where else it is used"
        );
        Verdict::ask(ask, vec![held.origin])
    })
}
