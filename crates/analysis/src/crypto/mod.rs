//! Algorithms, certificates, and what both ends of a tunnel agree on.

pub mod algorithms;
pub mod certificates;
pub mod negotiation;
pub mod pairs;
pub mod shared_keys;
mod trade;
