//! Mail servers: Postfix and Dovecot.

pub(crate) mod dovecot;
pub(crate) mod postfix;
