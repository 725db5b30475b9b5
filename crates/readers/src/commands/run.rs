//! Runs a script as far as plain commands go: values that the script itself states are put in, conditions that follow from them decide,
//! and what is under any other condition is marked as unsure.

use super::effects::{Command, Effects};
use super::programs::is_read;
use super::script::{self, Node, Simple};
use super::shell::{UNKNOWN, Word, is_shell};
use super::values::{Values, fits, test};
use crate::reader::{Open, ReadContext};
use std::collections::BTreeMap;
use std::rc::Rc;
use trevlin_model::{Export, Origin};

/// So many commands of a script are run.
const MOST_COMMANDS: usize = 20_000;
/// So many functions call each other.
const DEEPEST: usize = 8;
/// Longest value of a name.
const LONGEST: usize = 4_000;

/// The text of a script, and the places of its commands.
#[derive(Clone, Copy)]
pub(super) enum Source<'a> {
    /// A part of an export.
    Part { export: &'a Export, start: usize },
    /// A text that an export has in other words, with the one place of it.
    Elsewhere { export: &'a Export, origin: Origin },
}

impl<'a> Source<'a> {
    fn export(self) -> &'a Export {
        match self {
            Self::Part { export, .. } | Self::Elsewhere { export, .. } => export,
        }
    }

    fn origin(self, span: &std::ops::Range<usize>) -> Origin {
        match self {
            Self::Part { export, start } => export.origin(start + span.start..start + span.end),
            Self::Elsewhere { origin, .. } => origin,
        }
    }
}

/// A shell at work.
pub(super) struct Shell<'a, 'e, 'r> {
    around: &'r ReadContext<'a>,
    effects: &'r mut Effects<'e>,
    values: Values,
    functions: BTreeMap<String, Rc<Vec<Node>>>,
    /// Paths of the scripts that are being run.
    open: Vec<String>,
    /// How many conditions around are not known.
    unsure: usize,
    /// It may have ended before.
    maybe_ended: bool,
    ended: bool,
    /// The function or the file that is read in has ended.
    returned: bool,
    depth: usize,
    left: usize,
}

impl<'a, 'e, 'r> Shell<'a, 'e, 'r> {
    pub(super) fn new(
        around: &'r ReadContext<'a>,
        effects: &'r mut Effects<'e>,
        values: &[(&str, &str)],
        path: &str,
    ) -> Self {
        let values =
            values.iter().map(|(name, value)| ((*name).to_owned(), Some((*value).to_owned()))).collect();
        Self {
            around,
            effects,
            values: Values(values),
            functions: BTreeMap::new(),
            open: vec![path.to_owned()],
            unsure: 0,
            maybe_ended: false,
            ended: false,
            returned: false,
            depth: 0,
            left: MOST_COMMANDS,
        }
    }

    /// Runs a text.
    pub(super) fn run(&mut self, text: &str, source: Source<'a>) {
        let script = script::parse(text);
        self.list(&script.nodes, source);
        if let Some(broken) = script.broken.filter(|_| !self.ended) {
            self.effects.not_followed(&text[broken.min(text.len())..], source.origin(&(broken..text.len())));
        }
        if self.left == 0 {
            self.effects.not_followed(text, source.origin(&(0..text.len())));
        }
    }

    fn list(&mut self, nodes: &[Node], source: Source<'a>) -> Option<bool> {
        let mut status = Some(true);
        for node in nodes {
            if self.ended || self.returned {
                break;
            }
            status = self.node(node, source);
        }
        status
    }

    /// Runs commands under a condition: not at all where it does not hold, and unsure where that is not known.
    fn under(&mut self, condition: Option<bool>, nodes: &[Node], source: Source<'a>) -> Option<bool> {
        match condition {
            Some(true) => self.list(nodes, source),
            Some(false) => Some(true),
            None => {
                self.unsure += 1;
                self.list(nodes, source);
                self.unsure -= 1;
                None
            }
        }
    }

    fn node(&mut self, node: &Node, source: Source<'a>) -> Option<bool> {
        match node {
            Node::Simple(one) => self.simple(one, source),
            Node::Pipeline { negated, parts } => {
                if let [Node::Simple(echo), Node::Simple(tee)] = parts.as_slice()
                    && self.piped(echo, tee, source)
                {
                    return Some(!negated);
                }
                let statuses: Vec<_> = parts.iter().map(|part| self.node(part, source)).collect();
                statuses.last().copied().flatten().map(|status| status != *negated)
            }
            Node::Chain { first, rest } => {
                let mut before: &Node = first;
                let mut status = self.node(first, source);
                for (both, next) in rest {
                    let expected = status.or_else(|| self.values.is_expected(before).then_some(true));
                    let runs = expected.map(|held| held == *both);
                    let after = self.under(runs, std::slice::from_ref(next), source);
                    status = if runs == Some(false) { expected } else { after };
                    before = next;
                }
                status
            }
            Node::If { branches, otherwise } => {
                let mut open = false;
                for (condition, body) in branches {
                    let held = self.list(condition, source);
                    if self.branch(held, &mut open, body, source) {
                        return None;
                    }
                }
                self.under(if open { None } else { Some(true) }, otherwise, source)
            }
            Node::For { name, words, body } => self.each(name, words.as_deref(), body, source),
            Node::Loop { condition, body } => {
                self.under(None, condition, source);
                self.forget(body);
                self.under(None, body, source)
            }
            Node::Case { word, branches } => self.case(word, branches, source),
            Node::Function { name, body } => {
                self.functions.insert(name.clone(), Rc::clone(body));
                Some(true)
            }
            Node::Group(nodes) => self.list(nodes, source),
            Node::Subshell(nodes) => {
                let values = self.values.clone();
                let status = self.list(nodes, source);
                self.values = values;
                self.ended = false;
                status
            }
        }
    }

    /// Names that get values in a loop have none that is known.
    fn forget(&mut self, nodes: &[Node]) {
        for node in nodes {
            if let Node::Simple(one) = node {
                for (name, _) in &one.assigned {
                    self.values.0.insert(name.clone(), None);
                }
            }
        }
    }

    fn each(
        &mut self,
        name: &str,
        words: Option<&[Word]>,
        body: &[Node],
        source: Source<'a>,
    ) -> Option<bool> {
        let words: Vec<String> =
            words.unwrap_or_default().iter().flat_map(|word| self.values.words(word)).collect();
        let settings = |word: &String| word.starts_with("/proc/sys/") && !word.contains(UNKNOWN);
        let known = |word: &String| settings(word) || !word.contains([UNKNOWN, '*', '?', '{']);
        if words.is_empty() || !words.iter().all(known) {
            self.values.0.insert(name.to_owned(), None);
            return self.under(None, body, source);
        }
        for word in words {
            if self.ended || self.returned || self.left == 0 {
                break;
            }
            self.values.0.insert(name.to_owned(), Some(word));
            self.list(body, source);
        }
        None
    }

    fn case(&mut self, word: &Word, branches: &[(Vec<Word>, Vec<Node>)], source: Source<'a>) -> Option<bool> {
        let value = self.values.text(word);
        let mut open = value.is_none();
        for (patterns, body) in branches {
            let each =
                patterns.iter().map(|pattern| fits(self.values.text(pattern).as_deref(), value.as_deref()));
            let each: Vec<Option<bool>> = each.collect();
            let held = match (each.contains(&Some(true)), each.contains(&None)) {
                (true, _) => Some(true),
                (false, true) => None,
                (false, false) => Some(false),
            };
            if self.branch(held, &mut open, body, source) {
                break;
            }
        }
        None
    }

    /// One branch of several, where `open` is whether one before it may have been taken. Returns whether no later one is.
    fn branch(&mut self, held: Option<bool>, open: &mut bool, body: &[Node], source: Source<'a>) -> bool {
        *open |= held.is_none();
        if held != Some(false) {
            self.under(if *open { None } else { held }, body, source);
        }
        held == Some(true)
    }

    /// `echo 1 | tee /proc/sys/…`
    fn piped(&mut self, echo: &Simple, tee: &Simple, source: Source<'a>) -> bool {
        let words = |one: &Simple| -> Vec<String> {
            one.words.iter().flat_map(|word| self.values.words(word)).collect()
        };
        let (echo_at, tee_at) = (&echo.span, &tee.span);
        let (text, to) = (words(echo), words(tee));
        let to: Vec<&String> = to.iter().filter(|word| *word != "sudo").collect();
        match (text.as_slice(), to.as_slice()) {
            ([echo, value], [tee, file]) if echo == "echo" && *tee == "tee" => {
                let origin = source.origin(&(echo_at.start..tee_at.end));
                self.effects.written(file, value, self.is_unsure(), origin);
                true
            }
            _ => false,
        }
    }

    fn is_unsure(&self) -> bool {
        self.unsure > 0 || self.maybe_ended
    }

    /// One program with its words.
    fn simple(&mut self, one: &Simple, source: Source<'a>) -> Option<bool> {
        if self.left == 0 {
            return None;
        }
        self.left -= 1;
        let mut words: Vec<String> = one.words.iter().flat_map(|word| self.values.words(word)).collect();
        if words.is_empty() {
            for (name, word) in &one.assigned {
                let value = self.values.text(word).filter(|value| value.len() <= LONGEST && self.unsure == 0);
                self.values.0.insert(name.clone(), value);
            }
            return Some(true);
        }
        let wrapped = words.iter().take_while(|word| WRAPPERS.contains(&word.as_str())).count();
        let replaces = words[..wrapped].iter().any(|word| word == "exec");
        words.drain(..wrapped);
        let Some(first) = words.first().cloned() else { return Some(true) };
        let origin = source.origin(&one.span);
        let program = first.rsplit('/').next().unwrap_or_default();
        let status = match (program, first.as_str()) {
            ("exit" | "return", _) => {
                match program {
                    _ if self.is_unsure() => self.maybe_ended = true,
                    "return" => self.returned = true,
                    _ => self.ended = true,
                }
                return Some(true);
            }
            ("true" | ":", _) => Some(true),
            ("false", _) => Some(false),
            ("[" | "[[" | "test", _) => {
                test(&words, |path| self.around.find(path, source.export()).is_some())
            }
            ("which" | "command" | "type" | "hash", _) => {
                words.last().filter(|word| is_read(word)).map(|_| true)
            }
            ("export" | "readonly" | "local" | "declare", _) => {
                for word in &words[1..] {
                    if let Some((name, value)) = word.split_once('=') {
                        let value = (self.unsure == 0 && !value.contains(UNKNOWN)).then(|| value.to_owned());
                        self.values.0.insert(name.to_owned(), value);
                    }
                }
                Some(true)
            }
            ("unset" | "read", _) => {
                for word in &words[1..] {
                    self.values.0.insert(word.clone(), None);
                }
                Some(true)
            }
            ("eval", _) => {
                let text = words[1..].join(" ");
                self.text_of_a_word(&text, origin, source)
            }
            ("." | "source", _) => {
                let path = words.get(1).cloned().unwrap_or_default();
                self.script(&path, None, origin, source);
                Some(true)
            }
            ("sh" | "bash" | "dash" | "ash" | "ksh", _) => {
                let mut rest =
                    words[1..].iter().skip_while(|word| word.starts_with('-') && !word.contains('c'));
                match rest.next() {
                    Some(flag) if flag.starts_with('-') => {
                        let text = rest.next().cloned().unwrap_or_default();
                        self.text_of_a_word(&text, origin, source)
                    }
                    Some(path) => {
                        let (path, given) = (path.clone(), rest.cloned().collect());
                        self.script(&path, Some(given), origin, source);
                        Some(true)
                    }
                    None => None,
                }
            }
            _ if self.functions.contains_key(&first) => self.call(&first, &words[1..], source),
            _ => {
                let command = Command {
                    words: &words,
                    reads: one.redirections.iter().map(|(sign, _)| *sign).find(|sign| sign.starts_with('<')),
                    unsure: self.is_unsure(),
                    origin,
                };
                let status = self.effects.run(&command);
                if let ("echo" | "printf", [_, value]) = (program, words.as_slice()) {
                    for (sign, target) in &one.redirections {
                        if let (">" | ">>" | ">|", Some(file)) = (*sign, self.values.text(target)) {
                            self.effects.written(&file, value, self.is_unsure(), origin);
                        }
                    }
                }
                if status.is_none() && first.starts_with('/') {
                    self.script(&first, Some(words[1..].to_vec()), origin, source);
                }
                status
            }
        };
        if replaces && !self.is_unsure() {
            self.ended = true;
        }
        status
    }

    /// A text that is run as a script.
    fn text_of_a_word(&mut self, text: &str, origin: Origin, source: Source<'a>) -> Option<bool> {
        if text.contains(UNKNOWN) || self.depth >= DEEPEST {
            self.effects.not_followed(text, origin);
            return None;
        }
        self.depth += 1;
        self.run(text, Source::Elsewhere { export: source.export(), origin });
        self.depth -= 1;
        None
    }

    /// A function of the script.
    fn call(&mut self, name: &str, given: &[String], source: Source<'a>) -> Option<bool> {
        let body = self.functions.get(name).cloned()?;
        if self.depth >= DEEPEST {
            self.left = 0;
            return None;
        }
        let numbers: Vec<_> = (1..10).map(|number: usize| number.to_string()).collect();
        let before: Vec<_> = numbers.iter().map(|name| self.values.0.get(name).cloned()).collect();
        for (number, name) in numbers.iter().enumerate() {
            let value = given.get(number).cloned().unwrap_or_default();
            self.values.0.insert(name.clone(), (!value.contains(UNKNOWN)).then_some(value));
        }
        self.depth += 1;
        self.list(&body, source);
        self.depth -= 1;
        self.returned = false;
        for (name, value) in numbers.into_iter().zip(before) {
            match value {
                Some(value) => self.values.0.insert(name, value),
                None => self.values.0.remove(&name),
            };
        }
        None
    }

    /// Another script: read in, or run with words of its own.
    fn script(&mut self, path: &str, given: Option<Vec<String>>, origin: Origin, source: Source<'a>) {
        if path.contains(UNKNOWN) {
            return;
        }
        let Some(other) = self.around.find(path, source.export()) else {
            if given.is_some() {
                self.effects.not_exported(path, origin);
            }
            return;
        };
        if !is_shell(other) {
            return;
        }
        if !self.effects.may_follow(origin, other, Open::of(&self.open, other)) {
            return;
        }
        self.open.push(other.path().to_owned());
        let start = Source::Part { export: other, start: 0 };
        match given {
            None => {
                self.run(other.text(), start);
                self.returned = false;
            }
            Some(given) => {
                let values = (1..10).map(|number: usize| {
                    let value = given.get(number - 1).cloned().unwrap_or_default();
                    (number.to_string(), (!value.contains(UNKNOWN)).then_some(value))
                });
                let values = std::mem::replace(&mut self.values, Values(values.collect()));
                let functions = std::mem::take(&mut self.functions);
                let maybe_ended = self.maybe_ended;
                self.run(other.text(), start);
                (self.values, self.functions) = (values, functions);
                (self.ended, self.returned, self.maybe_ended) = (false, false, maybe_ended);
            }
        }
        self.open.pop();
    }
}

/// Commands that run the one behind them.
const WRAPPERS: [&str; 6] = ["sudo", "exec", "nohup", "busybox", "builtin", "time"];
