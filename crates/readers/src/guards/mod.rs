//! What limits failed logins: programs that watch logs and ban addresses, and the module that locks accounts.

pub(crate) mod fail2ban;
pub(crate) mod faillock;
mod python_ini;
pub(crate) mod sshguard;
