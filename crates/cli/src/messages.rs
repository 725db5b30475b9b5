//! Diagnostics on standard error.

use anstyle::{AnsiColor, Style};
use std::io::Write;
use trevlin_render::neutral;

const ERROR: Style = AnsiColor::Red.on_default().bold();
const WARNING: Style = AnsiColor::Yellow.on_default().bold();
const NOTE: Style = Style::new().dimmed();

fn say(style: Style, word: &str, text: &str) {
    // Standard error may be closed; there is nobody left to tell then.
    let _ = writeln!(anstream::stderr(), "{style}{word}:{style:#} {}", neutral(text));
}

/// The run could not be done.
pub(crate) fn error(text: &str) {
    say(ERROR, "error", text);
}

/// A part was left out, or may not be what was meant.
pub(crate) fn warning(text: &str) {
    say(WARNING, "warning", text);
}

/// Something to know when asked.
pub(crate) fn note(text: &str) {
    say(NOTE, "note", text);
}
