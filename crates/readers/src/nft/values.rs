//! Values of the nftables language: what conditions compare with, elements of sets and maps, verdicts.

use super::expr::{Data, Element, Expr, Pair, Verdict};
use super::lexer::Kind;
use super::parser::Parser;
use trevlin_model::Limit;

impl Parser<'_, '_> {
    /// `{ key [: data], … }`, or a variable that contains it.
    pub(super) fn elements(&mut self) -> Vec<Element> {
        let plain =
            |all: Vec<Expr>| all.into_iter().map(|key| Element { key, data: None, origin: None }).collect();
        match self.right(0) {
            Expr::Set(all) => {
                let places = std::mem::take(&mut self.places);
                let whole = places.len() == all.len();
                let place = |at: usize| places.get(at).copied().filter(|_| whole);
                all.into_iter()
                    .enumerate()
                    .map(|(at, key)| Element { key, data: None, origin: place(at) })
                    .collect()
            }
            Expr::Pairs(all) => {
                all.into_iter().map(|(key, data, origin)| Element { key, data: Some(data), origin }).collect()
            }
            other => plain(vec![other]),
        }
    }

    /// The right side of a condition, an element, a value.
    pub(super) fn right(&mut self, depth: usize) -> Expr {
        let first = self.one_right(depth);
        let mut bits: Vec<Expr> = vec![first];
        while matches!(self.text(), "," | "|" | "or") && depth == 0 {
            self.next();
            self.skip_ends();
            bits.push(self.one_right(depth));
        }
        if bits.len() == 1 {
            return bits.swap_remove(0);
        }
        Expr::Bits(bits.iter().map(Expr::words).collect())
    }

    /// Primaries with `.` between them.
    fn one_right(&mut self, depth: usize) -> Expr {
        let first = self.primary(depth);
        let mut parts = vec![first];
        while self.take(".") {
            parts.push(self.primary(depth));
        }
        if parts.len() == 1 { parts.swap_remove(0) } else { Expr::Concat(parts) }
    }

    fn primary(&mut self, depth: usize) -> Expr {
        if depth >= self.export.limits().of(Limit::Nesting) {
            let place = self.peek().map_or("", |token| token.text);
            self.book.cut(self.export.origin_of(place), Limit::Nesting, "nested braces");
            self.skip_statement();
            return Expr::Other("nested too deeply".into());
        }
        if self.take("{") {
            return self.braces(depth + 1);
        }
        if self.take("(") {
            let mut bits = vec![self.one_right(depth + 1)];
            while matches!(self.text(), "," | "|" | "or") {
                self.next();
                bits.push(self.one_right(depth + 1));
            }
            self.take(")");
            return match bits.len() {
                1 => bits.swap_remove(0),
                _ => Expr::Bits(bits.iter().map(Expr::words).collect()),
            };
        }
        let Some(token) = self.peek().filter(|one| matches!(one.kind, Kind::Word | Kind::String)) else {
            return Expr::Other(String::new());
        };
        self.next();
        if token.kind == Kind::String {
            // Times of a day, as `"08:00"-"18:00"`.
            return match self.take("-").then(|| self.word()).flatten() {
                Some(last) => Expr::Range(token.text.to_owned(), last.to_owned()),
                None => Expr::text(token.text),
            };
        }
        if let Some(name) = token.text.strip_prefix('$') {
            return match self.variables.known.get(name) {
                Some((value, size)) if crate::growth::may_grow(*size) => value.clone(),
                Some(_) => {
                    let origin = self.export.origin_of(token.text);
                    self.book.cut(origin, Limit::Expansion, "a variable");
                    Expr::Other(token.text.to_owned())
                }
                None => {
                    if !self.part {
                        let origin = self.export.origin_of(token.text);
                        self.book.not_understood(
                            origin,
                            format!("`{}` is not defined before this line", token.text),
                        );
                    }
                    Expr::Other(token.text.to_owned())
                }
            };
        }
        // A range with blanks around its dash.
        if self.text() == "-" {
            self.next();
            let last = self.word().unwrap_or_default();
            return Expr::Range(token.text.to_owned(), last.to_owned());
        }
        if self.text() == "/" && token.text.parse::<std::net::IpAddr>().is_ok() {
            self.next();
            let length = self.word().and_then(|one| one.parse().ok()).unwrap_or(u8::MAX);
            return Expr::Prefix(token.text.to_owned(), length);
        }
        Expr::word(token.text)
    }

    /// Behind an opening brace.
    fn braces(&mut self, depth: usize) -> Expr {
        let mut keys: Vec<Expr> = Vec::new();
        let mut pairs: Vec<Pair> = Vec::new();
        let mut places = Vec::new();
        loop {
            self.skip_ends();
            if self.take("}") || self.peek().is_none() {
                break;
            }
            if self.take(",") {
                continue;
            }
            let first = self.peek();
            let key = self.one_right(depth);
            self.element_options();
            if self.take(":") {
                self.skip_ends();
                let data = match self.verdict() {
                    Some(verdict) => Data::Verdict(verdict),
                    None => Data::Value(self.one_right(depth)),
                };
                self.element_options();
                pairs.push((key, data, first.map(|token| self.origin_from(token))));
            } else if let Expr::Set(inner) = key {
                // A variable that is a list itself.
                places.extend(first.into_iter().flat_map(|token| inner.iter().map(move |_| token)));
                keys.extend(inner);
            } else if let Expr::Pairs(inner) = key {
                pairs.extend(inner);
            } else {
                places.extend(first);
                keys.push(key);
            }
            // Other parts of the element are skipped, so that every iteration advances.
            while !matches!(self.peek().map(|one| one.text), None | Some("," | "}")) {
                self.next();
            }
        }
        // The outermost list is the last to be finished.
        self.places = places.into_iter().map(|token| self.export.origin_of(token.text)).collect();
        if pairs.is_empty() { Expr::Set(keys) } else { Expr::Pairs(pairs) }
    }

    /// `timeout 1h expires 20m counter packets 0 bytes 0 comment "x"` behind an element.
    fn element_options(&mut self) {
        loop {
            match self.text() {
                "timeout" | "expires" | "comment" => {
                    self.next();
                    self.next();
                }
                "counter" => {
                    self.next();
                    while matches!(self.text(), "packets" | "bytes") {
                        self.next();
                        self.next();
                    }
                }
                _ => return,
            }
        }
    }

    /// A verdict, if there is one here.
    pub(super) fn verdict(&mut self) -> Option<Verdict> {
        let verdict = match self.text() {
            "accept" => Verdict::Accept,
            "drop" => Verdict::Drop,
            "continue" => Verdict::Continue,
            "return" => Verdict::Return,
            word @ ("jump" | "goto") => {
                self.next();
                let target = self.word().unwrap_or_default();
                let target = self.variable_text(target);
                return Some(if word == "jump" { Verdict::Jump(target) } else { Verdict::Goto(target) });
            }
            _ => return None,
        };
        self.next();
        Some(verdict)
    }
}
