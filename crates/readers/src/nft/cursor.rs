//! State of the rule list parser.

use crate::nft::expr::{Command, Expr};
use crate::nft::lexer::{Kind, Token, split};
use crate::reader::{LineRecorder, ReadContext};
use std::collections::BTreeMap;
use trevlin_model::{Export, Origin};

/// The value of a `define`, and the parts of it that were lost.
#[derive(Default)]
pub(super) struct Variables {
    /// Each with how large it is.
    pub(super) known: BTreeMap<String, (Expr, usize)>,
    /// Whether something was lost that may have been anything: a table, a chain, a list.
    pub(super) lost: bool,
    /// Files that are read in and that no export holds, with the line of each.
    pub(super) missing: Vec<(String, Origin)>,
}

/// Input and state of the parser.
pub(super) struct Parser<'a, 'b> {
    pub(super) export: &'a Export,
    pub(super) around: &'b ReadContext<'a>,
    pub(super) tokens: Vec<Token<'a>>,
    pub(super) at: usize,
    pub(super) book: &'b mut LineRecorder<'a>,
    pub(super) commands: &'b mut Vec<Command>,
    pub(super) variables: &'b mut Variables,
    /// Includes on the way here.
    pub(super) depth: usize,
    /// Whether another file includes this one, so that its variables are not known here.
    pub(super) part: bool,
    /// Places of the elements of the list that was read last.
    pub(super) places: Vec<Origin>,
}

impl<'a, 'b> Parser<'a, 'b> {
    pub(super) fn new(
        export: &'a Export,
        around: &'b ReadContext<'a>,
        book: &'b mut LineRecorder<'a>,
        commands: &'b mut Vec<Command>,
        variables: &'b mut Variables,
        part: bool,
    ) -> Self {
        let tokens = split(export.text());
        Self { export, around, tokens, at: 0, book, commands, variables, depth: 0, part, places: Vec::new() }
    }

    /// The next token; remarks are passed over.
    pub(super) fn peek(&self) -> Option<Token<'a>> {
        self.tokens[self.at..].iter().find(|one| one.kind != Kind::Remark).copied()
    }

    pub(super) fn next(&mut self) -> Option<Token<'a>> {
        while let Some(token) = self.tokens.get(self.at).copied() {
            self.at += 1;
            self.variables.lost |= token.kind == Kind::Broken;
            if token.kind != Kind::Remark {
                return Some(token);
            }
        }
        None
    }

    /// The text of the next token, if on the same line.
    pub(super) fn text(&self) -> &'a str {
        self.peek().filter(|one| one.kind != Kind::End).map_or("", |one| one.text)
    }

    pub(super) fn take(&mut self, wanted: &str) -> bool {
        let found = self
            .peek()
            .is_some_and(|one| one.text == wanted && !matches!(one.kind, Kind::String | Kind::Broken));
        if found {
            self.next();
        }
        found
    }

    /// The next word or string of this line.
    pub(super) fn word(&mut self) -> Option<&'a str> {
        let token = self.peek().filter(|one| matches!(one.kind, Kind::Word | Kind::String))?;
        self.next();
        Some(token.text)
    }

    pub(super) fn at_end(&self) -> bool {
        self.peek().is_none_or(|one| one.kind == Kind::End || (one.kind == Kind::Sign && one.text == "}"))
    }

    pub(super) fn skip_ends(&mut self) {
        while self.peek().is_some_and(|one| one.kind == Kind::End) {
            self.next();
        }
    }

    /// The place from a token to the last one taken.
    pub(super) fn origin_from(&self, first: Token<'a>) -> Origin {
        let start = self.export.origin_of(first.text);
        let last = self.tokens[..self.at].iter().rev().find(|one| {
            !matches!(one.kind, Kind::End | Kind::Remark)
                && self.export.origin_of(one.text).start >= start.start
        });
        let end = last.map_or(start.end, |one| self.export.origin_of(one.text).end).max(start.end);
        Origin { end, ..start }
    }

    /// Skips the rest of a statement, braces and all.
    pub(super) fn skip_statement(&mut self) {
        let mut open = 0usize;
        while let Some(token) = self.peek() {
            match (token.kind, token.text) {
                (Kind::End, _) if open == 0 => return,
                (Kind::Sign, "}") if open == 0 => return,
                (Kind::Sign, "{") => open += 1,
                (Kind::Sign, "}") => open -= 1,
                _ => {}
            }
            self.next();
        }
    }

    /// Skips a block in braces at the current position.
    pub(super) fn skip_braces(&mut self) {
        let mut open = 0usize;
        while let Some(token) = self.next() {
            match (token.kind, token.text) {
                (Kind::Sign, "{") => open += 1,
                (Kind::Sign, "}") => open = open.saturating_sub(1),
                _ => {}
            }
            if open == 0 {
                return;
            }
        }
    }

    /// Something that may have been anything.
    pub(super) fn not_understood(&mut self, first: Token<'a>, why: &str) {
        self.variables.lost = true;
        self.part_not_understood(first, why);
    }

    /// A part of something that is known to be there.
    pub(super) fn part_not_understood(&mut self, first: Token<'a>, why: &str) {
        self.skip_statement();
        let origin = self.origin_from(first);
        self.book.not_understood(origin, why);
    }

    pub(super) fn understood(&mut self, first: Token<'a>) {
        let origin = self.origin_from(first);
        self.book.understood(origin);
        if !self.at_end() {
            let after = self.peek().unwrap_or(first);
            self.not_understood(after, "unexpected content follows here");
        }
    }

    /// `$name` as its expanded text.
    pub(super) fn variable_text(&self, word: &str) -> String {
        match word.strip_prefix('$').map(|name| self.variables.known.get(name)) {
            Some(Some((Expr::Text(text), _))) => text.clone(),
            _ => word.to_owned(),
        }
    }
}
