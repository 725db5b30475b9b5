//! Chores of this project: made-up estates of any size, with faults at known places, and what was found held against them.

pub mod bulk;
pub mod dice;
pub mod estate;
pub mod kinds;
pub mod measure;
pub mod place;

pub use difference::Difference;
pub use estate::{Expected, Maker};

mod difference;
