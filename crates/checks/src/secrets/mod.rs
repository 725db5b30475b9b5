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
use std::collections::BTreeMap;
use trevlin_model::{Login, SecretRecord};

/// The request for a secret that exists and was withheld.
pub(super) fn withheld(held: &SecretRecord, what: &str) -> Option<Verdict> {
    held.secret.is_withheld().then(|| {
        let ask = format!(
            "{what} is withheld; please state its length, how it was created, and where else it is used"
        );
        Verdict::ask(ask, vec![held.origin])
    })
}

/// Logins; those of one user with one and the same password are together, since it may be for several services.
pub(super) fn by_password<'a>(logins: impl Iterator<Item = &'a Login>) -> Vec<Vec<&'a Login>> {
    let mut known = BTreeMap::new();
    let mut all: Vec<Vec<&Login>> = Vec::new();
    for login in logins {
        let Some(held) = &login.secret else {
            all.push(vec![login]);
            continue;
        };
        let at = *known.entry((held.origin, &login.user)).or_insert(all.len());
        match all.get_mut(at) {
            Some(same) => same.push(login),
            None => all.push(vec![login]),
        }
    }
    all
}

/// `a`, `a and b` or `a, b and c`.
pub(super) fn listed(names: &[&str]) -> String {
    match names {
        [all @ .., first, last] => {
            all.iter().map(|one| format!("{one}, ")).collect::<String>() + first + " and " + last
        }
        _ => names.concat(),
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn names_in_a_row() {
        for (names, wanted) in
            [(&["a"][..], "a"), (&["a", "b"], "a and b"), (&["a", "b", "c"], "a, b and c"), (&[], "")]
        {
            assert_eq!(super::listed(names), wanted);
        }
    }
}
