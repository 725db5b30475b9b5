//! The limits of this run.

use std::sync::OnceLock;
use trevlin_model::Limits;

static IN_FORCE: OnceLock<Limits> = OnceLock::new();

/// Sets them, once, before anything is read.
///
/// # Errors
/// When a given limit is invalid.
pub(crate) fn set(said: &[String]) -> anyhow::Result<()> {
    let limits = said.iter().try_fold(Limits::default(), |all, one| all.with(one))?;
    IN_FORCE.get_or_init(|| limits);
    Ok(())
}

/// How much is read.
pub(crate) fn in_force() -> Limits {
    *IN_FORCE.get_or_init(Limits::default)
}
