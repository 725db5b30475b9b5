//! Checks of the area `secrets`.

pub(super) mod secret_reused;
pub(super) mod weak_login_password;
