//! What happens to packets in the filters of one device. Knows facts, and no file format.
//!
//! This first part answers one question exactly: what becomes of a new connection that no rule singles out?
//! That is what "accepts by default" means, whether by policy, by a last rule or by a chain jumped to.
//!
//! ```
//! use trevlin_packets::{Fate, Rest, Way, fate_of_rest};
//! use trevlin_model::Protocol;
//!
//! let rest = Rest { way: Way::ToDevice, entering: "eth0", protocol: Protocol::TCP, own_addresses: &[] };
//! assert_eq!(fate_of_rest(&[], &rest).fate, Fate::Accepted, "no filter at all");
//! ```

mod conditions;
pub mod diagram;
mod rest;

pub use rest::{Fate, Rest, Verdict, Way, fate_of_rest};
