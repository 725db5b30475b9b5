//! Mail servers: Postfix, Exim and Dovecot.

pub(crate) mod dovecot;
pub(crate) mod exim;
pub(crate) mod postfix;
