//! The estate assembled from exports: its devices, the content of the estate file, thresholds, and evidence.

pub mod area;
pub mod assemble;
pub mod baseline;
pub mod config;
pub mod delegations;
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
