//! Checks of the area `secrets`.

pub(super) mod secret_reused;
pub(super) mod weak_login_password;
pub(super) mod weak_password_hash;
pub(super) mod weak_shared_secret;
