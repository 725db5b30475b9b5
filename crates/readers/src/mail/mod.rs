//! Mail servers: Postfix and Dovecot.

pub(crate) mod postfix;
