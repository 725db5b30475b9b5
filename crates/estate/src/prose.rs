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

#[cfg(not(any(test, feature = "testing")))]
fn worded(text: String) -> String {
    text
}

/// In tests every text may be another one: nothing but what is shown may change for it.
#[cfg(any(test, feature = "testing"))]
fn worded(text: String) -> String {
    reword::reworded(text)
}

#[cfg(any(test, feature = "testing"))]
pub mod reword {
    //! Other words for every text, in the thread that asks for it.

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
