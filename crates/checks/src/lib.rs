//! The checks, one file each: judgement of an estate, severity, and remedy.

mod addresses;
pub mod catalogues;
pub mod check;
mod ciphers;
#[cfg(test)]
mod cuts;
mod exposure;
mod logins;
mod need;
pub mod rating;
pub mod registry;
mod rules;
pub mod secrets;
pub mod subject;
mod support;
#[cfg(test)]
mod testing;
mod tunnels;
mod upkeep;
