//! Tools of this project: generated estates of any size, with faults at known places, and comparison of the findings with them.
//!
//! ```
//! use xtask::dice::Dice;
//!
//! // The same seed makes the same estate, on every machine.
//! let (mut one, mut other) = (Dice::of(7, &[1]), Dice::of(7, &[1]));
//! assert_eq!(one.below(1_000), other.below(1_000));
//! ```

pub mod bulk;
pub mod dice;
pub mod estate;
pub mod foreign;
pub mod growth;
pub mod kinds;
pub mod measure;
pub mod place;

pub use difference::Difference;
pub use estate::{Expected, Maker};

mod difference;
