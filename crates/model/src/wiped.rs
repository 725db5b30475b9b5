//! Texts that hold secrets.

use std::ops::Deref;
use zeroize::Zeroize;

/// A text that is wiped when it goes: eight bytes at a time, since the texts of a large estate are long.
#[derive(Debug, Default)]
pub(crate) struct WipedText(String);

impl WipedText {
    /// Takes a text.
    pub(crate) fn of(text: String) -> Self {
        Self(text)
    }

    /// Wipes it, and gives its room back.
    pub(crate) fn wipe(&mut self) {
        let mut bytes = std::mem::take(&mut self.0).into_bytes();
        // Text removed by truncation remains in memory behind the new end.
        bytes.resize(bytes.capacity(), 0);
        let (before, words, after) = bytemuck::pod_align_to_mut::<u8, u64>(&mut bytes);
        before.zeroize();
        words.zeroize();
        after.zeroize();
    }
}

impl Deref for WipedText {
    type Target = str;

    fn deref(&self) -> &str {
        &self.0
    }
}

impl Drop for WipedText {
    fn drop(&mut self) {
        self.wipe();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wiped_texts_are_empty() {
        for text in ["", "x", "seven b", "eight by", "longer than a word of eight bytes: ünïcode"] {
            let mut wiped = WipedText::of(text.to_owned());
            assert_eq!(&*wiped, text);
            wiped.wipe();
            assert!(wiped.is_empty() && wiped.0.capacity() == 0);
        }
    }
}
