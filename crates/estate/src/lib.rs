//! Exports put together into an estate: its devices, what the estate file says of them, thresholds, and evidence.

pub mod area;
pub mod assemble;
pub mod baseline;
pub mod config;
pub mod evidence;
pub mod identities;
pub mod layout;
pub mod prose;
pub mod special;
#[cfg(any(test, feature = "testing"))]
pub mod testing;
#[cfg(test)]
mod whole;
pub mod words;
