//! Scripts as trees of commands (POSIX.1-2017, Shell Command Language, 2.9 and 2.10).

use super::shell::{Lexer, Part, Token, Word};
use std::ops::Range;
use std::rc::Rc;

/// A command, or several under one condition.
#[derive(Debug, Clone)]
pub(super) enum Node {
    /// A program with its words.
    Simple(Simple),
    /// Commands joined by `|`; their outcome is that of the last, or its opposite.
    Pipeline { negated: bool, parts: Vec<Node> },
    /// Commands joined by `&&` (true) and `||`.
    Chain { first: Box<Node>, rest: Vec<(bool, Node)> },
    /// `if`, with the condition and the commands of each branch.
    If { branches: Vec<(Vec<Node>, Vec<Node>)>, otherwise: Vec<Node> },
    /// `for` over these words.
    For { name: String, words: Option<Vec<Word>>, body: Vec<Node> },
    /// `while` and `until`.
    Loop { condition: Vec<Node>, body: Vec<Node> },
    /// `case`, with the patterns and the commands of each branch.
    Case { word: Word, branches: Vec<(Vec<Word>, Vec<Node>)> },
    /// A function.
    Function { name: String, body: Rc<Vec<Node>> },
    /// Commands in braces.
    Group(Vec<Node>),
    /// Commands in brackets, whose names end there.
    Subshell(Vec<Node>),
}

/// A program with its words.
#[derive(Debug, Clone)]
pub(super) struct Simple {
    /// Names that get a value before it.
    pub(super) assigned: Vec<(String, Word)>,
    /// The program and its words.
    pub(super) words: Vec<Word>,
    /// Redirections and their targets.
    pub(super) redirections: Vec<(&'static str, Word)>,
    /// Its place in the text.
    pub(super) span: Range<usize>,
}

/// A script taken apart.
pub(super) struct Script {
    /// Its commands.
    pub(super) nodes: Vec<Node>,
    /// Where it ceases to be one.
    pub(super) broken: Option<usize>,
}

/// So many levels of commands in commands.
const DEEPEST: usize = 40;

/// Takes a script apart.
pub(super) fn parse(text: &str) -> Script {
    let mut lexer = Lexer::new(text);
    let start = lexer.at();
    let token = lexer.next();
    let mut parser = Parser { lexer, token, start, before: 0, depth: 0, broken: None };
    let nodes = parser.list(&[]);
    if parser.token != Token::End {
        parser.fail();
    }
    Script { nodes, broken: parser.broken }
}

struct Parser<'a> {
    lexer: Lexer<'a>,
    /// The token at hand.
    token: Token,
    /// Where it begins.
    start: usize,
    /// Where the one before it ended.
    before: usize,
    depth: usize,
    broken: Option<usize>,
}

impl Parser<'_> {
    fn advance(&mut self) -> Token {
        self.before = self.lexer.at();
        let next = self.lexer.next();
        self.start = match &next {
            Token::Word(word) => word.span.start,
            _ => self.before,
        };
        std::mem::replace(&mut self.token, next)
    }

    /// Nothing from here on is read.
    fn fail(&mut self) {
        self.broken = self.broken.or(Some(self.start));
        self.token = Token::End;
    }

    fn plain(&self) -> Option<&str> {
        match &self.token {
            Token::Word(word) => word.plain(),
            _ => None,
        }
    }

    fn is_sign(&self, sign: &str) -> bool {
        matches!(&self.token, Token::Sign(own) if *own == sign)
    }

    /// Takes a reserved word or sign that must follow.
    fn expect(&mut self, wanted: &str) {
        if self.plain() == Some(wanted) || self.is_sign(wanted) {
            self.advance();
        } else {
            self.fail();
        }
    }

    fn pass_lines(&mut self) {
        while self.token == Token::Line {
            self.advance();
        }
    }

    /// Commands up to one of these words or signs.
    fn list(&mut self, ends: &[&str]) -> Vec<Node> {
        let mut nodes = Vec::new();
        if self.depth >= DEEPEST {
            self.fail();
        }
        self.depth += 1;
        loop {
            while self.token == Token::Line || self.is_sign(";") || self.is_sign("&") {
                self.advance();
            }
            let ended = self.plain().is_some_and(|word| ends.contains(&word))
                || matches!(&self.token, Token::Sign(sign) if ends.contains(sign) || [")", ";;"].contains(sign));
            if ended || self.token == Token::End {
                break;
            }
            nodes.extend(self.chain());
        }
        self.depth -= 1;
        nodes
    }

    fn chain(&mut self) -> Option<Node> {
        let first = self.pipeline()?;
        let mut rest = Vec::new();
        while self.is_sign("&&") || self.is_sign("||") {
            let both = self.is_sign("&&");
            self.advance();
            self.pass_lines();
            rest.push((both, self.pipeline()?));
        }
        Some(if rest.is_empty() { first } else { Node::Chain { first: Box::new(first), rest } })
    }

    fn pipeline(&mut self) -> Option<Node> {
        let mut negated = false;
        while self.plain() == Some("!") {
            negated = !negated;
            self.advance();
        }
        let mut parts = vec![self.command()?];
        while self.is_sign("|") || self.is_sign("|&") {
            self.advance();
            self.pass_lines();
            parts.push(self.command()?);
        }
        match (parts.len(), negated) {
            (1, false) => parts.pop(),
            _ => Some(Node::Pipeline { negated, parts }),
        }
    }

    fn command(&mut self) -> Option<Node> {
        let node = match self.plain() {
            Some("if") => self.branches(),
            Some("for" | "select") => self.each(),
            Some("while" | "until") => {
                self.advance();
                let condition = self.list(&["do"]);
                Node::Loop { condition, body: self.body() }
            }
            Some("case") => self.case()?,
            Some("{") => {
                self.advance();
                let body = self.list(&["}"]);
                self.expect("}");
                Node::Group(body)
            }
            Some("function") => {
                self.advance();
                let name = self.plain().unwrap_or_default().to_owned();
                self.advance();
                return self.function(name);
            }
            Some("then" | "do" | "done" | "fi" | "esac" | "else" | "elif" | "in" | "}") => {
                self.fail();
                return None;
            }
            _ if self.is_sign("(") => {
                self.advance();
                let body = self.list(&[")"]);
                self.expect(")");
                Node::Subshell(body)
            }
            _ => return self.simple(),
        };
        // What a whole block is redirected to is no target of a command in it.
        while matches!(self.token, Token::Redirection(_)) {
            self.advance();
            self.advance();
        }
        Some(node)
    }

    fn branches(&mut self) -> Node {
        let mut branches = Vec::new();
        loop {
            self.advance();
            let condition = self.list(&["then"]);
            self.expect("then");
            let body = self.list(&["elif", "else", "fi"]);
            branches.push((condition, body));
            if self.plain() != Some("elif") {
                break;
            }
        }
        let otherwise = if self.plain() == Some("else") {
            self.advance();
            self.list(&["fi"])
        } else {
            Vec::new()
        };
        self.expect("fi");
        Node::If { branches, otherwise }
    }

    fn body(&mut self) -> Vec<Node> {
        self.expect("do");
        let body = self.list(&["done"]);
        self.expect("done");
        body
    }

    fn each(&mut self) -> Node {
        self.advance();
        let name = self.plain().unwrap_or_default().to_owned();
        self.advance();
        self.pass_lines();
        let mut words = None;
        if self.plain() == Some("in") {
            self.advance();
            let mut found = Vec::new();
            while let Token::Word(word) = &self.token {
                found.push(word.clone());
                self.advance();
            }
            words = Some(found);
        }
        while self.token == Token::Line || self.is_sign(";") {
            self.advance();
        }
        Node::For { name, words, body: self.body() }
    }

    fn case(&mut self) -> Option<Node> {
        self.advance();
        let Token::Word(word) = self.advance() else {
            self.fail();
            return None;
        };
        self.pass_lines();
        self.expect("in");
        let mut branches = Vec::new();
        loop {
            while self.token == Token::Line || self.is_sign(";;") {
                self.advance();
            }
            if self.plain() == Some("esac") || self.token == Token::End {
                break;
            }
            if self.is_sign("(") {
                self.advance();
            }
            let mut patterns = Vec::new();
            while let Token::Word(pattern) = &self.token {
                patterns.push(pattern.clone());
                self.advance();
                if self.is_sign("|") {
                    self.advance();
                }
            }
            self.expect(")");
            branches.push((patterns, self.list(&["esac", ";;"])));
        }
        self.expect("esac");
        Some(Node::Case { word, branches })
    }

    /// The body of a function whose name was taken.
    fn function(&mut self, name: String) -> Option<Node> {
        if self.is_sign("(") {
            self.advance();
            self.expect(")");
        }
        self.pass_lines();
        self.depth += 1;
        let body = if self.depth < DEEPEST { self.command() } else { None };
        self.depth -= 1;
        if body.is_none() {
            self.fail();
        }
        Some(Node::Function { name, body: Rc::new(vec![body?]) })
    }

    fn simple(&mut self) -> Option<Node> {
        let start = self.start;
        let (mut assigned, mut words, mut redirections) = (Vec::new(), Vec::<Word>::new(), Vec::new());
        loop {
            match &self.token {
                Token::Word(word) => {
                    match assignment(word).filter(|_| words.is_empty()) {
                        Some(one) => assigned.push(one),
                        None => words.push(word.clone()),
                    }
                    self.advance();
                }
                Token::Redirection(sign) => {
                    let sign = *sign;
                    self.advance();
                    if let Token::Word(target) = &self.token {
                        redirections.push((sign, target.clone()));
                        self.advance();
                    }
                }
                Token::Sign("(") if words.len() == 1 && assigned.is_empty() => {
                    let name = words[0].plain().unwrap_or_default().to_owned();
                    return self.function(name);
                }
                Token::Sign("(") if words.is_empty() && !assigned.is_empty() => {
                    // A list as a value, as some shells have it.
                    while !self.is_sign(")") && self.token != Token::End {
                        self.advance();
                    }
                    self.expect(")");
                    if let Some((_, value)) = assigned.last_mut() {
                        value.parts = vec![Part::Unknown];
                    }
                }
                _ => break,
            }
        }
        if assigned.is_empty() && words.is_empty() && redirections.is_empty() {
            self.fail();
            return None;
        }
        let last = words.iter().chain(assigned.iter().map(|(_, word)| word)).map(|word| word.span.end);
        let targets = redirections.iter().map(|(_, word)| word.span.end);
        let end = last.chain(targets).max().unwrap_or(start);
        if self.lexer.unclosed.is_some_and(|at| at < end) {
            // The shell looks for its end up to the last line, and runs none of it.
            self.start = start;
            self.fail();
            return None;
        }
        Some(Node::Simple(Simple { assigned, words, redirections, span: start..end }))
    }
}

/// `NAME=value`
fn assignment(word: &Word) -> Option<(String, Word)> {
    let Part::Text { text, quoted: false } = word.parts.first()? else { return None };
    let (name, rest) = text.split_once('=')?;
    let first = name.chars().next()?;
    if !(first.is_ascii_alphabetic() || first == '_')
        || !name.chars().all(|one| one.is_ascii_alphanumeric() || one == '_')
    {
        return None;
    }
    let mut parts = word.parts.clone();
    parts[0] = Part::Text { text: rest.to_owned(), quoted: false };
    Some((name.to_owned(), Word { parts, span: word.span.clone() }))
}
