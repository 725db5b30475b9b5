//! Makes text from exports harmless for a terminal.

use std::borrow::Cow;

/// Whether a character could move a cursor, change colours, hide or reorder text.
pub(crate) fn is_active(letter: char) -> bool {
    letter.is_control()
        || matches!(letter,
            '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}'
            | '\u{e0000}'..='\u{e007f}')
}

/// The text with every control, zero-width and direction character shown as its code instead of taking effect.
/// Tabs become four blanks; line ends are shown too, since a name with one could pass for a line of ours.
#[must_use]
pub fn neutral(text: &str) -> Cow<'_, str> {
    if !text.contains(is_active) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    for letter in text.chars() {
        match letter {
            '\t' => out.push_str("    "),
            _ if is_active(letter) => out.extend(letter.escape_unicode()),
            _ => out.push(letter),
        }
    }
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_takes_effect() {
        for (text, wanted) in [
            ("plain übel", "plain übel"),
            ("a\tb", "a    b"),
            ("\u{1b}[31mred", "\\u{1b}[31mred"),
            ("a\nb\r", "a\\u{a}b\\u{d}"),
            ("\u{9b}2J", "\\u{9b}2J"),
            ("abc\u{202e}txt", "abc\\u{202e}txt"),
        ] {
            assert_eq!(neutral(text), wanted);
        }
    }
}
