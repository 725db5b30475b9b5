//! Diagnostics on standard error.

use anstyle::{AnsiColor, Style};
use std::io::Write;
use tracing_subscriber::fmt::format::FmtSpan;
use trevlin_render::sanitize;

const ERROR: Style = AnsiColor::Red.on_default().bold();
const WARNING: Style = AnsiColor::Yellow.on_default().bold();
const NOTE: Style = Style::new().dimmed();

fn say(style: Style, word: &str, text: &str) {
    // Standard error may be closed; the message is lost then.
    let _ = writeln!(anstream::stderr(), "{style}{word}:{style:#} {}", sanitize(text));
}

/// The run could not be done.
pub(crate) fn error(text: &str) {
    say(ERROR, "error", text);
}

/// A part was left out, or may not be intended.
pub(crate) fn warning(text: &str) {
    say(WARNING, "warning", text);
}

/// Information on request.
pub(crate) fn note(text: &str) {
    say(NOTE, "note", text);
}

/// Enables messages about the duration of each part of the work, without the time in which its thread waited for others.
pub(crate) fn tell_times() {
    // Where it is set already, it is reported already.
    let _ = tracing_subscriber::fmt()
        .with_writer(std::io::stderr)
        .with_max_level(tracing::Level::TRACE)
        .with_span_events(FmtSpan::CLOSE)
        .with_target(false)
        .with_level(false)
        .with_ansi(false)
        .try_init();
}

/// Enables messages about internal errors by place only: the text of a panic may quote the input, including a secret.
pub(crate) fn tell_faults_without_their_words() {
    std::panic::set_hook(Box::new(|info| error(&fault(info.location()))));
}

fn fault(place: Option<&std::panic::Location<'_>>) -> String {
    let at = place.map(|place| format!(" (at {}:{})", place.file(), place.line())).unwrap_or_default();
    format!("an internal error of Trevlin{at}; please report it, with the file that causes it if possible")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fault_is_told_by_its_place() {
        let told = fault(Some(std::panic::Location::caller()));
        assert!(told.contains("messages.rs:") && told.contains("an internal error of Trevlin"), "{told}");
    }
}
