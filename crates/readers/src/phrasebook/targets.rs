//! Where a phrasebook puts what it takes.

use trevlin_model::Origin;

/// Paths into the sheet, for the check of what is there.
pub(super) type Targets = Vec<(Origin, Vec<(String, bool)>, Vec<(usize, String)>)>;
