//! Parser of the nftables language, nft(8). Statements that are not understood are reported with their place and skipped up to the end of
//! the line, so that the rest is still read.
//!
//! Long because the commands of one language are read in one place, each by a method of one parser.

use super::expr::{Base, Command, Place, RuleText, TableName, number};
use super::lexer::{Kind, Token, split};
use super::statements;
pub(super) use crate::nft::cursor::Parser;
use crate::reader::Open;

/// How deep files are read in others (nftables: `MAX_INCLUDE_DEPTH`).
const DEPTH: usize = 16;

impl<'a, 'b> Parser<'a, 'b> {
    /// Everything at the top of a file.
    pub(super) fn file(&mut self) {
        loop {
            self.skip_ends();
            let Some(first) = self.peek() else { return };
            if first.text == "}" {
                self.next();
                self.not_understood(first, "closing brace without an opening one");
                continue;
            }
            self.command(first);
        }
    }

    /// Nothing but rules of a chain.
    pub(super) fn rules_of(&mut self, table: &TableName, chain: &str) {
        loop {
            self.skip_ends();
            let Some(first) = self.peek() else { return };
            match first.text {
                "}" => {
                    self.next();
                    self.not_understood(first, "closing brace without an opening one");
                }
                "define" => {
                    self.next();
                    self.define(first);
                }
                "include" => {
                    self.next();
                    self.include(first);
                }
                _ => self.rule(table, chain, Place::End),
            }
        }
    }

    fn command(&mut self, first: Token<'a>) {
        self.next();
        match first.text {
            "define" | "redefine" => self.define(first),
            "undefine" => {
                let name = self.word().unwrap_or_default();
                self.variables.known.remove(name);
                self.understood(first);
            }
            "include" => self.include(first),
            "table" => self.table(first),
            "flush" => self.flush(first),
            "add" | "create" => self.add(first, Place::End),
            "insert" => self.add(first, Place::Start),
            "delete" | "destroy" => self.delete(first),
            "list" | "reset" | "monitor" | "export" => {
                self.skip_statement();
            }
            _ => {
                self.not_understood(first, "expected a command of nft(8), such as `table inet filter { … }`")
            }
        }
    }

    fn define(&mut self, first: Token<'a>) {
        let name = self.word().map(str::to_owned);
        if let (Some(name), true) = (name, self.take("=")) {
            let value = self.right(0);
            let size = value.size();
            self.variables.known.insert(name, (value, size));
            self.understood(first);
        } else {
            self.not_understood(first, "expected `define NAME = VALUE`");
        }
    }

    fn include(&mut self, first: Token<'a>) {
        let Some(path) = self.word() else {
            self.not_understood(first, "expected a path after `include`");
            return;
        };
        self.understood(first);
        let found = self.around.find_all(path, self.export);
        if found.is_empty() {
            if !path.contains(['*', '?', '[']) {
                let origin = self.origin_from(first);
                self.book.note(origin, crate::reader::missing_note(path));
                self.variables.missing.push((path.to_owned(), origin));
            }
            return;
        }
        for export in found.into_iter().filter(|one| one.path() != self.export.path()) {
            let origin = self.origin_from(first);
            // By depth alone, as the program does it.
            let open = Open { again: false, depth: self.depth + 1 };
            if !self.book.may_read_in(origin, export, open, DEPTH) {
                return;
            }
            let mut inner = Parser {
                export,
                around: self.around,
                tokens: split(export.text()),
                at: 0,
                book: &mut *self.book,
                commands: &mut *self.commands,
                variables: &mut *self.variables,
                depth: self.depth + 1,
                part: self.part,
                places: Vec::new(),
            };
            inner.file();
        }
    }

    /// `[family] name`
    fn table_name(&mut self) -> Option<TableName> {
        const FAMILIES: [&str; 6] = ["ip", "ip6", "inet", "arp", "bridge", "netdev"];
        let first = self.word()?;
        let (family, name) = if FAMILIES.contains(&first) { (first, self.word()?) } else { ("ip", first) };
        Some(TableName { family: family.to_owned(), name: name.to_owned() })
    }

    fn table(&mut self, first: Token<'a>) {
        let Some(table) = self.table_name() else {
            self.not_understood(first, "expected `table FAMILY NAME { … }`");
            return;
        };
        let origin = self.origin_from(first);
        self.book.understood(origin);
        self.commands.push(Command::Table(table.clone(), origin));
        if !self.take("{") {
            return;
        }
        if !self.parts_of(&table) {
            self.variables.lost = true;
            self.book.not_understood(origin, "this table is not closed: the ruleset is truncated");
        }
    }

    /// Chains, sets and other parts of a table, up to a closing brace; returns whether there was one.
    pub(super) fn parts_of(&mut self, table: &TableName) -> bool {
        loop {
            self.skip_ends();
            let Some(inner) = self.next() else { return false };
            match inner.text {
                "}" => return true,
                "chain" => self.chain(inner, table),
                "set" | "map" | "meter" => self.set(inner, table),
                "flags" => {
                    let flags = self.words_to_end();
                    if flags.contains(&"dormant") {
                        self.commands.push(Command::Dormant(table.clone()));
                    }
                    self.understood(inner);
                }
                "comment" => {
                    self.words_to_end();
                    self.understood(inner);
                }
                // Objects that rules name and that do not decide: what the rules do with them does.
                "flowtable" | "counter" | "quota" | "limit" | "secmark" | "synproxy" | "ct" => {
                    self.skip_statement();
                    self.understood(inner);
                }
                "define" => self.define(inner),
                "include" => self.include(inner),
                _ => self.not_understood(inner, "expected `chain`, `set` or `map` in a table"),
            }
        }
    }

    fn words_to_end(&mut self) -> Vec<&'a str> {
        let mut words = Vec::new();
        while !self.at_end() {
            if let Some(token) = self.next() {
                words.push(token.text);
            }
        }
        words
    }

    fn chain(&mut self, first: Token<'a>, table: &TableName) {
        let Some(name) = self.word().map(str::to_owned) else {
            self.not_understood(first, "expected `chain NAME { … }`");
            return;
        };
        let origin = self.origin_from(first);
        self.book.understood(origin);
        let at = self.commands.len();
        self.commands.push(Command::Chain { table: table.clone(), name: name.clone(), base: None, origin });
        if !self.take("{") {
            return;
        }
        loop {
            self.skip_ends();
            let Some(inner) = self.peek() else {
                self.variables.lost = true;
                self.book.not_understood(origin, "this chain is not closed: the ruleset is truncated");
                return;
            };
            match inner.text {
                "}" => {
                    self.next();
                    return;
                }
                "type" => {
                    self.next();
                    let base = self.base(inner);
                    // The hook of a chain is stated by the line with its type and policy.
                    let place = self.origin_from(inner);
                    if let Some(Command::Chain { base: known, origin, .. }) = self.commands.get_mut(at) {
                        (*known, *origin) = (base, place);
                    }
                }
                "policy" => {
                    self.next();
                    let word = self.word().unwrap_or_default();
                    let policy = self.variable_text(word);
                    let place = self.origin_from(inner);
                    match self.commands.get_mut(at) {
                        Some(Command::Chain { base: Some(base), .. }) => base.policy = Some(policy),
                        // A chain that was hooked before is opened again.
                        _ => self.commands.push(Command::Policy {
                            table: table.clone(),
                            chain: name.clone(),
                            policy,
                            origin: place,
                        }),
                    }
                    self.understood(inner);
                }
                "comment" | "flags" | "devices" => {
                    self.next();
                    if inner.text == "devices" {
                        self.skip_statement();
                    } else {
                        self.words_to_end();
                    }
                    self.understood(inner);
                }
                "define" => {
                    self.next();
                    self.define(inner);
                }
                "include" => {
                    self.next();
                    self.include(inner);
                }
                _ => {
                    let head = self.commands.len() == at + 1
                        && matches!(self.commands.get(at), Some(Command::Chain { base: None, .. }));
                    self.rule(table, &name, Place::End);
                    // The unreadable start of an unhooked chain may have been its hook.
                    let broken = |one: &Command| matches!(one, Command::Rule { rule, .. } if !rule.whole);
                    self.variables.lost |= head && self.commands.last().is_some_and(broken);
                }
            }
        }
    }

    /// `filter hook input priority filter - 5; policy drop;` behind `type`.
    fn base(&mut self, first: Token<'a>) -> Option<Base> {
        let mut base = Base { kind: self.word()?.to_owned(), ..Base::default() };
        let (mut placed, mut odd) = (false, false);
        while !self.at_end() {
            match self.next().map(|one| one.text) {
                Some("hook") => base.hook = self.word().unwrap_or_default().to_owned(),
                Some("priority") => {
                    placed = true;
                    let word = self.word().map(str::to_owned).unwrap_or_else(|| {
                        // `- 5` with a blank.
                        self.next().map(|one| one.text.to_owned()).unwrap_or_default()
                    });
                    let word = self.variable_text(&word);
                    let sign = if self.take("+") {
                        1
                    } else if self.take("-") {
                        -1
                    } else {
                        0
                    };
                    let offset =
                        if sign == 0 { 0 } else { self.word().and_then(|one| one.parse().ok()).unwrap_or(0) };
                    match priority(&word)
                        .or_else(|| (word == "-").then(|| self.word()?.parse::<i32>().ok().map(|n| -n))?)
                    {
                        Some(known) => base.priority = known + sign * offset,
                        None => {
                            let place = self.origin_from(first);
                            self.variables.lost = true;
                            self.book
                                .not_understood(place, format!("`{word}` is not a priority name of nft(8)"));
                        }
                    }
                }
                Some("device" | "devices") => {
                    self.right(0);
                }
                _ => odd = true,
            }
        }
        let origin = self.origin_from(first);
        if odd || !placed || base.hook.is_empty() {
            // The rest of the line, such as the policy, may be lost with it.
            self.variables.lost = true;
            self.book.not_understood(origin, "expected `type KIND hook HOOK priority PRIORITY`");
        } else {
            self.book.understood(origin);
        }
        Some(base)
    }

    /// A rule up to the end of its line.
    fn rule(&mut self, table: &TableName, chain: &str, place: Place) {
        let Some(first) = self.peek() else { return };
        let above = self.remark_above(first);
        let (begun, lost) = (self.at, self.variables.lost);
        let mut rule = RuleText {
            statements: Vec::new(),
            comment: None,
            origin: self.export.origin_of(first.text),
            whole: true,
        };
        while !self.at_end() {
            let Some(begin) = self.peek() else { break };
            match statements::statement(self) {
                Some(statement) => match statement {
                    super::expr::Statement::Comment(text) => rule.comment = Some(text),
                    other => rule.statements.push(other),
                },
                None => {
                    rule.whole = false;
                    self.part_not_understood(begin, "expected a condition or a statement of nft(8)");
                }
            }
        }
        // An illegible part of a rule keeps its place.
        self.variables.lost = lost;
        if self.tokens[begun..self.at].iter().any(|one| one.kind == Kind::Broken) {
            // Nor are its remains evidence: the end of a line may have been lost.
            rule.statements.clear();
            rule.whole = false;
            self.part_not_understood(first, "a part of this rule is unreadable");
        }
        rule.origin = self.origin_from(first);
        let behind = self.tokens.get(self.at).filter(|one| one.kind == Kind::Remark);
        rule.comment = rule.comment.or(behind.map(|one| one.text.to_owned())).or(above);
        rule.comment = rule.comment.map(|text| crate::announced::masked(&text));
        if rule.whole {
            self.book.understood(rule.origin);
        }
        self.commands.push(Command::Rule { table: table.clone(), chain: chain.to_owned(), place, rule });
    }

    /// A remark on the line above.
    fn remark_above(&self, first: Token<'a>) -> Option<String> {
        let mut before = self.tokens[..self.at].iter().rev();
        let line = |token: &Token<'_>| self.export.line_of(self.export.origin_of(token.text).start);
        let last = before.find(|one| one.kind != Kind::End)?;
        (last.kind == Kind::Remark && !last.text.is_empty() && line(last) + 1 == line(&first))
            .then(|| last.text.to_owned())
    }

    fn set(&mut self, first: Token<'a>, table: &TableName) {
        let Some(name) = self.word().map(str::to_owned) else {
            self.not_understood(first, "expected `set NAME { … }`");
            return;
        };
        let origin = self.origin_from(first);
        self.book.understood(origin);
        let mut dynamic = false;
        let mut elements = Vec::new();
        if self.take("{") {
            loop {
                self.skip_ends();
                let Some(inner) = self.next() else {
                    self.variables.lost = true;
                    self.book.not_understood(origin, "this set is not closed: the ruleset is truncated");
                    break;
                };
                match inner.text {
                    "}" => break,
                    "elements" if self.take("=") => {
                        elements = self.elements();
                        self.understood(inner);
                    }
                    "flags" => {
                        dynamic |=
                            self.words_to_end().iter().any(|flag| matches!(*flag, "dynamic" | "timeout"));
                        self.understood(inner);
                    }
                    // What times out is put there while the device runs.
                    "timeout" => {
                        dynamic = true;
                        self.skip_statement();
                        self.understood(inner);
                    }
                    "type" | "typeof" | "gc-interval" | "size" | "policy" | "comment" | "counter"
                    | "auto-merge" | "quota" | "limit" => {
                        self.skip_statement();
                        self.understood(inner);
                    }
                    _ => self.not_understood(inner, "expected `type`, `flags` or `elements` in a set"),
                }
            }
        }
        self.commands.push(Command::Set { table: table.clone(), name, dynamic, elements, origin });
    }

    fn flush(&mut self, first: Token<'a>) {
        match self.word() {
            Some("ruleset") => {
                self.words_to_end();
                self.commands.push(Command::FlushRuleset);
            }
            Some("table") => {
                let table = self.table_name();
                self.commands.extend(table.map(Command::FlushTable));
            }
            Some("chain") => {
                if let (Some(table), Some(chain)) = (self.table_name(), self.word()) {
                    self.commands.push(Command::FlushChain(table, chain.to_owned()));
                }
            }
            _ => {
                self.skip_statement();
            }
        }
        self.understood(first);
    }

    fn delete(&mut self, first: Token<'a>) {
        match self.word() {
            Some("table") => {
                let table = self.table_name();
                self.commands.extend(table.map(Command::DeleteTable));
            }
            Some("chain") => {
                if let (Some(table), Some(chain)) = (self.table_name(), self.word()) {
                    self.commands.push(Command::DeleteChain(table, chain.to_owned()));
                }
            }
            Some("element") => {
                if let (Some(table), Some(set)) = (self.table_name(), self.word().map(str::to_owned)) {
                    let elements = self.elements().into_iter().map(|one| one.key).collect();
                    self.commands.push(Command::DeleteElements { table, set, elements });
                }
            }
            Some("rule") => {
                self.not_understood(first, "a rule is deleted by its handle, which a file does not contain");
                return;
            }
            _ => {
                self.skip_statement();
            }
        }
        self.understood(first);
    }

    /// `add`, `create` and `insert`.
    fn add(&mut self, first: Token<'a>, place: Place) {
        match self.word() {
            Some("table") => self.table(first),
            Some("chain") => match self.table_name() {
                Some(table) => self.chain(first, &table),
                None => self.not_understood(first, "expected `add chain FAMILY TABLE NAME`"),
            },
            Some("set" | "map") => match self.table_name() {
                Some(table) => self.set(first, &table),
                None => self.not_understood(first, "expected `add set FAMILY TABLE NAME`"),
            },
            Some("element") => {
                if let (Some(table), Some(set)) = (self.table_name(), self.word().map(str::to_owned)) {
                    let elements = self.elements();
                    self.understood(first);
                    self.commands.push(Command::Elements { table, set, elements });
                } else {
                    self.not_understood(first, "expected `add element FAMILY TABLE SET { … }`");
                }
            }
            Some("rule") => {
                let (table, chain) = (self.table_name(), self.word().map(str::to_owned));
                let (Some(table), Some(chain)) = (table, chain) else {
                    self.not_understood(first, "expected `add rule FAMILY TABLE CHAIN …`");
                    return;
                };
                let mut place = place;
                while matches!(self.text(), "position" | "handle" | "index") {
                    self.next();
                    self.next();
                    place = Place::Elsewhere;
                }
                self.rule(&table, &chain, place);
            }
            Some("flowtable" | "counter" | "quota" | "limit" | "ct" | "secmark" | "synproxy") => {
                self.skip_statement();
                self.understood(first);
            }
            // The word `table` may be left out of nothing; a rule without the word `rule` is an older form.
            _ => self.not_understood(first, "expected `table`, `chain`, `rule`, `set`, `map` or `element`"),
        }
    }
}

/// A priority by name or number (nft(8), "CHAINS"), for the families that filter IP.
pub(super) fn priority(word: &str) -> Option<i32> {
    let (name, offset) = match word.char_indices().skip(1).find(|(_, letter)| matches!(letter, '+' | '-')) {
        Some((at, _)) if number(&word[..at]).is_none() => (&word[..at], word[at..].parse().ok()?),
        _ => (word, 0),
    };
    Some(
        offset
            + match name {
                "raw" => -300,
                "mangle" => -150,
                "dstnat" => -100,
                "filter" => 0,
                "security" => 50,
                "srcnat" => 100,
                other => return other.parse().ok(),
            },
    )
}
