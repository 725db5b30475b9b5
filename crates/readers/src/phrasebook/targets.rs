//! Destinations of values.

use trevlin_model::Origin;

/// Paths into the sheet, for the check of their existence.
pub(super) type Targets = Vec<(Origin, Vec<(String, bool)>, Vec<(usize, String)>)>;
