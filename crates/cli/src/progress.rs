//! Progress of reading, at a terminal.

use crate::verbosity::Verbosity;
use indicatif::{HumanCount, ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::io::IsTerminal;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

/// Less than this is done too soon for a progress display.
const SMALL: u64 = 8 << 20;

/// Display while files are read: files, bytes, and remaining time.
const READING: &str = "{prefix} {msg}, {bytes} of {total_bytes} [{bar:24}] {eta} left";
/// Display while the duration is not known.
const JUDGING: &str = "{prefix} {msg}, {elapsed} {spinner}";

/// A line that changes, on standard error, only where that is a terminal.
#[derive(Debug)]
pub(crate) struct Progress {
    bar: ProgressBar,
    files: u64,
    done: AtomicU64,
}

impl Progress {
    /// Progress over a number of files and bytes: these are only counted where the display is shown.
    pub(crate) fn over(
        what: &'static str,
        files: usize,
        bytes: impl FnOnce() -> u64,
        verbosity: Verbosity,
    ) -> Self {
        let shown = verbosity != Verbosity::Nothing && std::io::stderr().is_terminal();
        let bytes = if shown { bytes() } else { 0 };
        let target = if bytes < SMALL { ProgressDrawTarget::hidden() } else { ProgressDrawTarget::stderr() };
        Self::on(target, what, files as u64, bytes)
    }

    /// Progress while this number of files, with this number of bytes, is judged: the duration is not known.
    pub(crate) fn judging(files: usize, bytes: impl FnOnce() -> u64, verbosity: Verbosity) -> Self {
        let progress = Self::over("judging", files, bytes, verbosity);
        if let Ok(style) = ProgressStyle::with_template(JUDGING) {
            progress.bar.set_style(style);
        }
        if !progress.bar.is_hidden() {
            progress.bar.set_message(format!("{} files", HumanCount(files as u64)));
            progress.bar.enable_steady_tick(Duration::from_millis(250));
        }
        progress
    }

    fn on(target: ProgressDrawTarget, what: &'static str, files: u64, bytes: u64) -> Self {
        let bar = ProgressBar::with_draw_target(Some(bytes), target);
        if let Ok(style) = ProgressStyle::with_template(READING) {
            bar.set_style(style.progress_chars("=> "));
        }
        bar.set_prefix(what);
        let progress = Self { bar, files, done: AtomicU64::new(0) };
        progress.tell(0);
        progress
    }

    fn tell(&self, done: u64) {
        if !self.bar.is_hidden() {
            self.bar.set_message(format!("{} of {} files", HumanCount(done), HumanCount(self.files)));
        }
    }

    /// Counts one more file, with its bytes.
    pub(crate) fn done(&self, bytes: usize) {
        self.tell(1 + self.done.fetch_add(1, Ordering::Relaxed));
        self.bar.inc(bytes as u64);
    }
}

impl Drop for Progress {
    /// Later messages begin at the start of the line.
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use indicatif::InMemoryTerm;

    #[test]
    fn what_is_drawn() {
        let term = InMemoryTerm::new(4, 100);
        let target = ProgressDrawTarget::term_like(Box::new(term.clone()));
        let progress = Progress::on(target, "reading", 1_200, 100 << 20);
        (0..300).for_each(|_| progress.done((25 << 20) / 300));
        progress.bar.tick();
        let drawn = term.contents();
        assert!(drawn.starts_with("reading 300 of 1,200 files, 25.00 MiB of 100.00 MiB [=====>"), "{drawn}");
        assert!(drawn.ends_with(" left"), "{drawn}");
        drop(progress);
        assert_eq!(term.contents(), "");
    }

    #[test]
    fn nothing_is_counted_or_drawn_where_nobody_looks() {
        // Tests have no terminal.
        let progress = Progress::over("reading", 1, || panic!("nobody asked"), Verbosity::Warnings);
        assert!(progress.bar.is_hidden());
    }
}
