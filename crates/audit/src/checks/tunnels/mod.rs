//! Checks of the area `tunnels`.

pub(super) mod callers_talk;
pub(super) mod compression;
pub(super) mod control_channel_open;
pub(super) mod dial_in_unencrypted;
pub(super) mod ikev1_answers;
pub(super) mod pptp_answers;
pub(super) mod server_not_verified;
pub(super) mod static_key;
