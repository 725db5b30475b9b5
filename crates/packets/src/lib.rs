//! What happens to packets in the filters of one device. Knows facts, and no file format.
//!
//! This first part answers one question exactly: what becomes of a new connection that no rule singles out?
//! That is what "accepts by default" means, whether by policy, by a last rule or by a chain jumped to.
//!
//! ```
//! use trevlin_packets::{Fate, Rest, Way, fate_of_rest};
//! use trevlin_model::{Family, Protocol};
//!
//! let (way, family, protocol) = (Way::ToDevice, Family::V4, Protocol::TCP);
//! let rest = Rest { way, entering: "eth0", family, protocol, own_addresses: &[] };
//! assert_eq!(fate_of_rest(&[], &rest).fate, Fate::Accepted, "no filter at all");
//! ```

pub mod breadth;
mod conditions;
pub mod cube;
pub mod diagram;
pub mod fates;
mod grid;
mod index;
pub mod program;
mod rest;
pub mod review;
mod sketch;
mod space;
mod trace;
pub mod way;

pub use cube::{Cube, Field, Point, Region};
pub use rest::{Fate, Rest, Verdict, Way, fate_of_rest};
pub use space::{Holds, NO_INTERFACE, Space, address, number};
