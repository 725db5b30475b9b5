//! Checks of the area `logins`.

pub(super) mod client_certificate_not_asked;
pub(super) mod single_factor_tunnel;
