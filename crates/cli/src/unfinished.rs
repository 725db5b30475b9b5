//! Removes unfinished output when the run is interrupted: dropping a value does that only where the run continues.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, Once, PoisonError};

static ALL: Mutex<BTreeSet<PathBuf>> = Mutex::new(BTreeSet::new());

/// A file or folder that is not done yet, as long as this lives.
pub(crate) struct Unfinished(PathBuf);

/// Creates unfinished output; `at` is its path. None is created once the run was interrupted.
///
/// # Errors
/// Those of making it.
pub(crate) fn make<T>(
    make: impl FnOnce() -> std::io::Result<T>,
    at: impl Fn(&T) -> &Path,
) -> std::io::Result<(T, Unfinished)> {
    static WATCHED: Once = Once::new();
    WATCHED.call_once(watch);
    let mut all = lock();
    let made = make()?;
    let at = at(&made).to_owned();
    all.insert(at.clone());
    drop(all);
    Ok((made, Unfinished(at)))
}

/// Works on unfinished output, unless the run was interrupted, which removes it.
pub(crate) fn while_going<T>(does: impl FnOnce() -> T) -> T {
    let _going = lock();
    does()
}

impl Drop for Unfinished {
    fn drop(&mut self) {
        lock().remove(&self.0);
    }
}

fn lock() -> std::sync::MutexGuard<'static, BTreeSet<PathBuf>> {
    ALL.lock().unwrap_or_else(PoisonError::into_inner)
}

/// How often it is tried to take a folder away that is still written to.
#[cfg(unix)]
const TRIES: usize = 50;

#[cfg(unix)]
fn watch() {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
    let Ok(mut signals) = signal_hook::iterator::Signals::new([SIGHUP, SIGINT, SIGTERM]) else { return };
    std::thread::spawn(move || {
        if let Some(signal) = signals.forever().next() {
            // Held to the end: nothing is made any more.
            let all = lock();
            for at in &*all {
                for _ in 0..TRIES {
                    let gone =
                        if at.is_dir() { std::fs::remove_dir_all(at) } else { std::fs::remove_file(at) };
                    if gone.is_ok() || !at.exists() {
                        break;
                    }
                }
            }
            // The run ends as it would without this handler, so that a parent process sees the signal.
            let _ = signal_hook::low_level::emulate_default_handler(signal);
        }
    });
}

#[cfg(not(unix))]
fn watch() {}
