//! Analyses of an estate: connections between devices, owners of addresses, services, logins, reachability, and packet filters. Each module
//! receives its inputs; [`context::Analyses`] computes everything once.

pub mod addresses;
pub mod authentication;
pub mod containers;
pub mod context;
pub mod crypto;
pub mod exposure;
pub mod exposures;
pub mod filter_review;
pub mod incomplete;
pub mod intents;
pub mod l2tp;
pub mod lacking;
pub mod login_sources;
pub mod logins;
pub mod management;
pub mod map;
pub mod own_filter;
pub mod reachability;
pub mod reachability_from;
pub mod relays;
mod reverse_paths;
pub mod services;
#[cfg(any(test, feature = "testing"))]
pub mod testing;
pub mod topology;
pub mod verdicts;
pub mod ways;
#[cfg(test)]
mod whole;
