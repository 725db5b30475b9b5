//! Texts for people: they can be shown and joined to others, and are never read back.

use std::fmt;

/// A text for people. Nothing in it can be looked for: whatever decides, decides by a value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Prose(String);

impl Prose {
    /// The text, to be written out.
    #[must_use]
    pub fn into_string(self) -> String {
        self.0
    }
}

impl fmt::Display for Prose {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(&self.0)
    }
}

impl From<String> for Prose {
    fn from(text: String) -> Self {
        Self(worded(text))
    }
}

impl From<&str> for Prose {
    fn from(text: &str) -> Self {
        Self(worded(text.to_owned()))
    }
}

/// Common words that begin names of services and resources, or sentences. Any other first word may be a name of a configuration, which is
/// shown as written.
const COMMON: [&str; 60] = [
    "a",
    "access",
    "account",
    "an",
    "any",
    "backups",
    "cache",
    "character",
    "clients",
    "cluster",
    "community",
    "connection",
    "connections",
    "control",
    "database",
    "daytime",
    "discard",
    "echo",
    "export",
    "folder",
    "forward",
    "it",
    "key",
    "log",
    "management",
    "measurements",
    "message",
    "metrics",
    "module",
    "monitoring",
    "names",
    "networks",
    "no",
    "one",
    "page",
    "peer",
    "please",
    "port",
    "power",
    "print",
    "relay",
    "remote",
    "rule",
    "running",
    "service",
    "share",
    "signing",
    "some",
    "stored",
    "syslog",
    "target",
    "the",
    "their",
    "time",
    "tunnel",
    "unknown",
    "user",
    "users",
    "web",
    "what",
];

/// The text with a capital first letter, as a heading or a sentence begins, unless it begins with a name.
#[must_use]
pub fn capitalized(text: &str) -> String {
    let word = text.split([' ', ',', ':', ';']).next().unwrap_or_default();
    if !COMMON.contains(&word) {
        return text.to_owned();
    }
    uppercase(text)
}

/// The text with a capital first letter, unless it begins with a name that has a small one.
#[must_use]
pub fn uppercase(text: &str) -> String {
    if text.starts_with("iSCSI") {
        return text.to_owned();
    }
    let mut letters = text.chars();
    letters.next().map_or(String::new(), |first| first.to_uppercase().chain(letters).collect())
}

/// The text as one sentence or several: with a capital first letter, and a full stop at the end.
#[must_use]
pub fn sentence(text: &str) -> String {
    let mut text = capitalized(text);
    if !text.is_empty() && !text.ends_with(['.', '!', '?']) {
        text.push('.');
    }
    text
}

#[cfg(not(any(test, feature = "testing")))]
fn worded(text: String) -> String {
    text
}

/// In tests every text may be replaced: only the display may change.
#[cfg(any(test, feature = "testing"))]
fn worded(text: String) -> String {
    reword::reworded(text)
}

#[cfg(any(test, feature = "testing"))]
pub mod reword {
    //! Other words for every text, in the current thread.

    use std::cell::Cell;
    use std::hash::{DefaultHasher, Hash, Hasher};

    thread_local! {
        static SEED: Cell<u64> = const { Cell::new(0) };
    }

    /// Runs something with every text in other words, all of it in one thread.
    pub fn with<T: Send>(seed: u64, run: impl FnOnce() -> T + Send) -> T {
        let alone = || {
            SEED.set(seed);
            let pool = rayon::ThreadPoolBuilder::new().num_threads(1).use_current_thread().build();
            pool.expect("a thread of its own is in no pool").install(run)
        };
        std::thread::scope(|scope| scope.spawn(alone).join().expect("what runs does not panic"))
    }

    /// The text in other words, the same for the same text.
    pub(super) fn reworded(text: String) -> String {
        let seed = SEED.get();
        if seed == 0 {
            return text;
        }
        let mut hasher = DefaultHasher::new();
        (seed, &text).hash(&mut hasher);
        format!("w{:x}", hasher.finish())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn headings_and_sentences_begin_with_a_capital_unless_with_a_name() {
        for (text, heading) in [
            ("database (PostgreSQL) requires no TLS", "Database (PostgreSQL) requires no TLS"),
            ("edge forwards", "edge forwards"),
            ("crew is open", "crew is open"),
            ("port forward of tcp 80", "Port forward of tcp 80"),
            ("eth0 accepts", "eth0 accepts"),
            ("rsync server", "rsync server"),
            ("iSCSI target", "iSCSI target"),
            ("`x` is", "`x` is"),
            ("10.0.0.0/8 overlaps", "10.0.0.0/8 overlaps"),
            ("", ""),
        ] {
            assert_eq!(capitalized(text), heading);
        }
        assert_eq!(sentence("it is"), "It is.");
        assert_eq!(sentence("It is."), "It is.");
        assert_eq!(sentence(""), "");
    }
}
