//! What an export may still grow by while its reader reads it: what is small in a file and used in many places is large in memory.

use std::cell::Cell;
use trevlin_model::{Export, Limit};

/// What is free, in bytes: a small file may use what it names as often as it likes.
const FREE: usize = 1 << 20;

thread_local! {
    /// What is left for the export that is being read, in bytes, and whether it was not enough; none where nobody counts.
    static LEFT: Cell<Option<(usize, bool)>> = const { Cell::new(None) };
}

/// Reads an export within its budget, and says whether that was not enough.
pub(crate) fn within<T>(export: &Export, read: impl FnOnce() -> T) -> (T, bool) {
    /// Puts back what was there, whatever happens to the reader.
    struct Before(Option<(usize, bool)>);
    impl Drop for Before {
        fn drop(&mut self) {
            LEFT.set(self.0);
        }
    }
    let times = export.limits().of(Limit::Expansion);
    let budget = export.text().len().saturating_mul(times).saturating_add(FREE);
    let before = Before(LEFT.replace(Some((budget, false))));
    let made = read();
    let exceeded = LEFT.get().is_some_and(|(_, exceeded)| exceeded);
    drop(before);
    (made, exceeded)
}

/// Whether so many bytes more may be used for what is copied; they are, then.
pub(crate) fn may_grow(bytes: usize) -> bool {
    let Some((left, exceeded)) = LEFT.get() else { return true };
    match left.checked_sub(bytes) {
        Some(rest) => {
            LEFT.set(Some((rest, exceeded)));
            true
        }
        None => {
            LEFT.set(Some((left, true)));
            false
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn what_is_copied_is_charged() {
        assert!(may_grow(usize::MAX), "nobody counts");
        let export = Export::new(ExportId(0), "x", "0123456789".into());
        let times = export.limits().of(Limit::Expansion);
        let (taken, exceeded) = within(&export, || (may_grow(FREE), may_grow(times * 10), may_grow(1)));
        assert_eq!((taken, exceeded), ((true, true, false), true));
        assert!(!within(&export, || may_grow(FREE)).1);
        assert!(may_grow(usize::MAX), "and nobody does afterwards");
    }
}
