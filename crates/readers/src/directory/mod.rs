//! Directories of accounts, and the programs that log users in by them.

mod dn;
mod ldif;
pub(crate) mod slapd;
