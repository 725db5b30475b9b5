//! The set of files that dial-in tunnels share: pppd's options and secrets, and the PPTP daemon's configuration.

pub(crate) mod l2tp_secrets;
pub(crate) mod options;
pub(crate) mod pptpd;
pub(crate) mod secrets;
mod words;
pub(crate) mod xl2tpd;
