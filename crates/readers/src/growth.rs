//! Memory that an export may still use while its reader reads it: a small definition used in many places becomes large.

use std::cell::Cell;
use trevlin_model::{Export, Limit, Match, Rule};

/// Free budget in bytes: a small file may use its definitions as often as it likes.
const FREE: usize = 1 << 20;

thread_local! {
    /// Remaining budget in bytes of the export being read, and whether it was exceeded; none where no limit applies.
    static LEFT: Cell<Option<(usize, bool)>> = const { Cell::new(None) };
}

/// Reads an export within its budget, and returns whether it was exceeded.
pub(crate) fn within<T>(export: &Export, read: impl FnOnce() -> T) -> (T, bool) {
    within_all(&[export], read)
}

/// Computes the common part of several exports within the budget of all of them, whichever of them needs it first.
pub(crate) fn within_all<T>(exports: &[&Export], work_out: impl FnOnce() -> T) -> (T, bool) {
    /// Restores the previous budget, also after a panic of the reader.
    struct Before(Option<(usize, bool)>);
    impl Drop for Before {
        fn drop(&mut self) {
            LEFT.set(self.0);
        }
    }
    let times = exports.first().map_or(0, |export| export.limits().of(Limit::Expansion));
    let size: usize = exports.iter().map(|export| export.text().len()).sum();
    let budget = size.saturating_mul(times).saturating_add(FREE);
    let before = Before(LEFT.replace(Some((budget, false))));
    let made = work_out();
    let exceeded = LEFT.get().is_some_and(|(_, exceeded)| exceeded);
    drop(before);
    (made, exceeded)
}

/// Whether this number of bytes may be used for copies; if so, they are deducted.
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

/// An included file adds to the budget once, as if its bytes were part of the export.
pub(crate) fn gain(export: &Export, bytes: usize) {
    if let Some((left, exceeded)) = LEFT.get() {
        let more = bytes.saturating_mul(export.limits().of(Limit::Expansion));
        LEFT.set(Some((left.saturating_add(more), exceeded)));
    }
}

/// Whether one more rule may be made from a shared definition: later analysis of a rule needs more memory than the rule.
pub(crate) fn may_make_rule(matches: &[Match]) -> bool {
    const WORKED_OUT: usize = 1 << 10;
    may_grow(size_of::<Rule>() + size_of_val(matches) + WORKED_OUT)
}

/// Records that the part included was incomplete.
pub(crate) fn was_exceeded() {
    if let Some((left, _)) = LEFT.get() {
        LEFT.set(Some((left, true)));
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
        // Shared parts use the common budget, independent of the reader that needs them first.
        let shared = || within_all(&[&export, &export], || may_grow(FREE + 2 * times * 10));
        assert_eq!(within(&export, || (shared(), may_grow(FREE))), (((true, false), true), false));
        assert!(within(&export, was_exceeded).1);
        let read_in = || (gain(&export, 10), may_grow(FREE + 2 * times * 10), may_grow(1));
        assert_eq!(within(&export, read_in), (((), true, false), true));
        assert!(may_grow(usize::MAX), "and nobody does afterwards");
    }
}
