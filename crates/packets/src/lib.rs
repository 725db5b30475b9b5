//! Packets in the filters of one device. Depends on facts, not on file formats.
//!
//! ```
//! use trevlin_packets::default_traffic::{DefaultAction, DefaultTraffic, Way, action_of_default};
//! use trevlin_model::{Family, Protocol};
//!
//! let (way, family, protocol) = (Way::ToDevice, Family::V4, Protocol::TCP);
//! let traffic = DefaultTraffic { way, entering: "eth0", family, protocol, port: None, own_addresses: &[] };
//! assert_eq!(action_of_default(&[], &traffic).outcome, DefaultAction::Accepted, "no filter at all");
//! ```

pub mod breadth;
pub mod cube;
pub mod default_traffic;
pub mod diagram;
mod grid;
pub mod hidden;
mod index;
pub mod jumps;
pub mod outcomes;
pub mod program;
pub mod review;
mod signature;
mod space;
mod trace;
pub mod way;

pub use cube::{Cube, Field, Point, Region};
pub use space::{Holds, NO_INTERFACE, Space, address, number};
