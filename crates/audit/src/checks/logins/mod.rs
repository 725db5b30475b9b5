//! Checks of the area `logins`.

pub(super) mod client_certificate_not_asked;
pub(super) mod empty_password;
pub(super) mod foreign_client_authority;
pub(super) mod radius_client_wide;
pub(super) mod radius_unsigned;
pub(super) mod root_shell_password;
pub(super) mod shared_key_for_anybody;
pub(super) mod single_factor_shell;
pub(super) mod single_factor_tunnel;
