//! Checks of the area `tunnels`.

pub(super) mod pptp_answers;
