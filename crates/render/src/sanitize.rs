//! Makes text from exports harmless for a terminal.

use std::borrow::Cow;

/// Whether a character could move a cursor, change colours, hide or reorder text, or be there without being seen: two names that look
/// the same are then two (Unicode 16, 23.2 to 23.9; DerivedCoreProperties, Default_Ignorable_Code_Point).
pub(crate) fn is_active(letter: char) -> bool {
    letter.is_control()
        || matches!(letter,
            // Soft hyphen, joiner of graphemes, mark of Arabic letters, fillers, vowels that are not shown.
            '\u{ad}' | '\u{34f}' | '\u{61c}' | '\u{115f}' | '\u{1160}' | '\u{17b4}' | '\u{17b5}' | '\u{180b}'..='\u{180f}'
            | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{3164}' | '\u{feff}'
            // Variation selectors, marks of annotations, shorthand and music, tags.
            | '\u{fe00}'..='\u{fe0f}' | '\u{ffa0}' | '\u{fff0}'..='\u{fffb}' | '\u{1bca0}'..='\u{1bca3}'
            | '\u{1d173}'..='\u{1d17a}' | '\u{e0000}'..='\u{e0fff}')
}

/// The text with every control, zero-width and direction character shown as its code instead of taking effect.
/// Tabs become four blanks; line ends are shown too, since a name with one could pass for a line of ours.
#[must_use]
pub fn sanitize(text: &str) -> Cow<'_, str> {
    // Nearly all text is plain.
    if text.bytes().all(|byte| matches!(byte, b' '..=b'~')) || !text.contains(is_active) {
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
            ("gate\u{ad}way", "gate\\u{ad}way"),
            ("a\u{61c}b\u{180e}c\u{34f}", "a\\u{61c}b\\u{180e}c\\u{34f}"),
            (
                "a\u{3164}\u{fff9}\u{fe0f}\u{e0101}\u{e0041}",
                "a\\u{3164}\\u{fff9}\\u{fe0f}\\u{e0101}\\u{e0041}",
            ),
        ] {
            assert_eq!(sanitize(text), wanted);
        }
    }
}
