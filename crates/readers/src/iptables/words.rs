//! Words of a rule, one after the other.

use crate::iptables::tokens::Token;

/// Words of a line, taken one after the other.
pub(super) struct Words<'a> {
    pub(super) tokens: Vec<Token<'a>>,
    pub(super) at: usize,
}

impl<'a> Words<'a> {
    pub(super) fn next(&mut self) -> Option<Token<'a>> {
        self.at += 1;
        self.tokens.get(self.at - 1).cloned()
    }

    /// The next word where it is a value, not an option.
    pub(super) fn value(&mut self) -> Option<String> {
        let token = self.tokens.get(self.at)?;
        if token.is_option() {
            return None;
        }
        self.at += 1;
        Some(token.text.clone().into_owned())
    }

    /// The next word where it is `!` in the place of a value: negation as older versions wrote it.
    pub(super) fn late_negation(&mut self) -> bool {
        let found = self.tokens.get(self.at).is_some_and(|token| !token.quoted && token.text == "!");
        self.at += usize::from(found);
        found
    }

    /// All values up to the next option, as written.
    pub(super) fn values(&mut self) -> String {
        let mut all = String::new();
        while let Some(value) = self.value() {
            all.push(' ');
            all.push_str(&value);
        }
        all
    }
}
