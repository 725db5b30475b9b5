//! Checks of the area `tunnels`.

pub(super) mod dial_in_unencrypted;
pub(super) mod pptp_answers;
