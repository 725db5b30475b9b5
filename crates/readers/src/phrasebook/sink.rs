//! What takes the statements of an export.

use super::word::Word;
use trevlin_model::Origin;

/// How deep statements are followed.
pub(super) const DEPTH: usize = 32;

/// Takes statements in the order of the export.
pub(super) trait Sink<'a> {
    /// A statement at this nesting depth, and its line.
    fn statement(&mut self, depth: usize, words: &[Word<'a>], line: Origin);
    /// Something that is no statement of this shape.
    fn broken(&mut self, at: Origin, what: &str);
    /// A statement nested deeper than the limit.
    fn cut(&mut self, at: Origin);
}
