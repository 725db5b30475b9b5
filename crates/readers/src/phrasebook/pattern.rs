//! Patterns over the words of a statement. A match is found in time that grows with the length of pattern times statement, whatever
//! the pattern: no state is entered twice for one word.

use super::value::Kind;
pub(super) use crate::phrasebook::word::Word;
use std::collections::BTreeMap;

/// Elements of a pattern.
#[derive(Debug, Clone, PartialEq)]
enum Piece {
    Literal(String),
    Capture(usize, Kind),
    Optional(Vec<Piece>),
    Repeated(Vec<Piece>),
    Choice(Vec<Vec<Piece>>),
}

/// One step of a compiled pattern.
#[derive(Debug, Clone)]
enum Step {
    /// This word.
    Word(String),
    /// A value, for this capture.
    Take(usize, Kind),
    /// Here first, there where that leads nowhere.
    Either(usize, usize),
    /// There.
    Go(usize),
    /// All words must be used up.
    End,
}

/// Which words a capture took: its number, the first word, and the one behind the last.
pub(super) type Taken = (usize, usize, usize);

/// A pattern over one statement.
#[derive(Debug, Clone)]
pub(super) struct Pattern {
    steps: Vec<Step>,
    /// Whether a statement must have exactly as many words as there are steps.
    straight: bool,
}

/// Names of captures by number, and what each takes.
pub(super) type Captures = Vec<(String, Kind)>;

/// Maximum nesting of brackets.
const DEPTH: usize = 8;
/// How many pieces a pattern may have.
const PIECES: usize = 400;

impl Pattern {
    /// Reads a pattern. Captures are numbered on from those that are known; `maps` are names of value maps.
    ///
    /// # Errors
    /// A description of the syntax error.
    pub(super) fn parse(
        text: &str,
        captures: &mut Captures,
        maps: &BTreeMap<String, usize>,
    ) -> Result<Self, String> {
        let tokens = tokens(text)?;
        if tokens.len() > PIECES {
            return Err(format!("this pattern has more than {PIECES} pieces"));
        }
        let mut parser = Parser { tokens: &tokens, at: 0, captures, maps };
        let pieces = parser.sequence(0, &[])?;
        if pieces.is_empty() {
            return Err("this pattern is empty".into());
        }
        if nullable(&pieces) {
            return Err(
                "this pattern matches a statement without words; at least one word must be fixed or captured"
                    .into(),
            );
        }
        let straight = pieces.iter().all(|piece| match piece {
            Piece::Literal(_) => true,
            Piece::Capture(_, kind) => kind.words() == Some(1),
            _ => false,
        });
        let mut steps = Vec::new();
        compile(&pieces, &mut steps);
        steps.push(Step::End);
        Ok(Self { steps, straight })
    }

    /// The word that every statement that fits begins with, where there is one.
    pub(super) fn first_word(&self) -> Option<&str> {
        if let Some(Step::Word(word)) = self.steps.first() { Some(word) } else { None }
    }

    /// Captured values, where the whole statement matches.
    pub(super) fn matches(&self, words: &[Word<'_>]) -> Option<Vec<Taken>> {
        if self.straight {
            return self.straight(words);
        }
        let mut seen = vec![false; self.steps.len() * (words.len() + 1)];
        let mut taken: Vec<Taken> = Vec::new();
        let mut open = vec![(0, 0, 0)];
        while let Some((mut step, mut at, length)) = open.pop() {
            taken.truncate(length);
            loop {
                let state = step * (words.len() + 1) + at;
                if std::mem::replace(&mut seen[state], true) {
                    break;
                }
                match &self.steps[step] {
                    Step::End if at == words.len() => return Some(taken),
                    Step::End => break,
                    Step::Word(word) => match words.get(at) {
                        Some(found) if found.text == word => {
                            at += 1;
                            step += 1;
                        }
                        _ => break,
                    },
                    Step::Take(capture, kind) => match kind.takes(&words[at..]) {
                        Some(number) => {
                            taken.push((*capture, at, at + number));
                            at += number;
                            step += 1;
                        }
                        None => break,
                    },
                    Step::Either(first, second) => {
                        open.push((*second, at, taken.len()));
                        step = *first;
                    }
                    Step::Go(there) => step = *there,
                }
            }
        }
        None
    }

    /// The same without choices: one step a word.
    fn straight(&self, words: &[Word<'_>]) -> Option<Vec<Taken>> {
        if words.len() + 1 != self.steps.len() {
            return None;
        }
        // Words first: most statements fail there.
        let fits = |(at, word): (usize, &Word<'_>)| match &self.steps[at] {
            Step::Word(wanted) => word.text == wanted,
            _ => true,
        };
        if !words.iter().enumerate().all(fits) {
            return None;
        }
        let mut taken = Vec::new();
        for (at, step) in self.steps.iter().enumerate() {
            if let Step::Take(capture, kind) = step {
                kind.takes(&words[at..])?;
                taken.push((*capture, at, at + 1));
            }
        }
        Some(taken)
    }
}

fn nullable(pieces: &[Piece]) -> bool {
    pieces.iter().all(|piece| match piece {
        Piece::Optional(_) => true,
        Piece::Repeated(inner) => nullable(inner),
        Piece::Choice(all) => all.iter().any(|one| nullable(one)),
        _ => false,
    })
}

fn compile(pieces: &[Piece], steps: &mut Vec<Step>) {
    for piece in pieces {
        match piece {
            Piece::Literal(word) => steps.push(Step::Word(word.clone())),
            Piece::Capture(number, kind) => steps.push(Step::Take(*number, kind.clone())),
            Piece::Optional(inner) => {
                let split = steps.len();
                steps.push(Step::Go(0));
                compile(inner, steps);
                steps[split] = Step::Either(split + 1, steps.len());
            }
            Piece::Repeated(inner) => {
                let start = steps.len();
                compile(inner, steps);
                let split = steps.len();
                steps.push(Step::Either(start, split + 1));
            }
            Piece::Choice(all) => {
                let mut exits = Vec::new();
                for (number, one) in all.iter().enumerate() {
                    let split = steps.len();
                    let last = number + 1 == all.len();
                    if !last {
                        steps.push(Step::Go(0));
                    }
                    compile(one, steps);
                    if !last {
                        exits.push(steps.len());
                        steps.push(Step::Go(0));
                        steps[split] = Step::Either(split + 1, steps.len());
                    }
                }
                let end = steps.len();
                for exit in exits {
                    steps[exit] = Step::Go(end);
                }
            }
        }
    }
}

/// Pieces of a pattern's text.
#[derive(Debug, Clone, PartialEq)]
enum Token {
    Word(String),
    Capture(String),
    Open(char),
    Close(char),
    Bar,
    More,
}

fn tokens(text: &str) -> Result<Vec<Token>, String> {
    let mut found = Vec::new();
    let mut rest = text.trim_start();
    while let Some(first) = rest.chars().next() {
        let mut length = first.len_utf8();
        if let Some(after) = rest.strip_prefix("...") {
            found.push(Token::More);
            rest = after.trim_start();
            continue;
        }
        match first {
            '{' => {
                let end = rest.find('}').ok_or("`{` is not closed by `}`")?;
                found.push(Token::Capture(rest[1..end].trim().to_owned()));
                length = end + 1;
            }
            '[' | '(' => found.push(Token::Open(first)),
            ']' | ')' => found.push(Token::Close(first)),
            '|' => found.push(Token::Bar),
            '"' => {
                let end = rest[1..].find('"').ok_or("a quote is not closed")? + 1;
                found.push(Token::Word(rest[1..end].to_owned()));
                length = end + 1;
            }
            _ => {
                let ends = |letter: char| letter.is_whitespace() || "{}[]()|\"".contains(letter);
                length = rest.find(ends).unwrap_or(rest.len());
                if length == 0 {
                    return Err("`}` without `{`".into());
                }
                // A comma behind a word separates words, as in a statement.
                let word = match rest[length..].chars().next() {
                    Some(next) if !next.is_whitespace() => &rest[..length],
                    _ => rest[..length].trim_end_matches(','),
                };
                if !word.is_empty() {
                    found.push(Token::Word(word.to_owned()));
                }
            }
        }
        rest = rest[length..].trim_start();
    }
    Ok(found)
}

struct Parser<'a> {
    tokens: &'a [Token],
    at: usize,
    captures: &'a mut Captures,
    maps: &'a BTreeMap<String, usize>,
}

impl Parser<'_> {
    fn sequence(&mut self, depth: usize, ends: &[Token]) -> Result<Vec<Piece>, String> {
        if depth > DEPTH {
            return Err(format!("brackets are nested deeper than {DEPTH} levels"));
        }
        let mut pieces: Vec<Piece> = Vec::new();
        while let Some(token) = self.tokens.get(self.at) {
            if ends.contains(token) {
                return Ok(pieces);
            }
            self.at += 1;
            let piece = match token {
                Token::Word(word) => Piece::Literal(word.clone()),
                Token::Capture(text) => self.capture(text)?,
                Token::Open('[') => Piece::Optional(self.choice(depth, ']')?),
                Token::Open(_) => match self.choice(depth, ')')?.as_slice() {
                    [only] => only.clone(),
                    several => Piece::Choice(vec![several.to_vec()]),
                },
                Token::More => {
                    let last = pieces.pop().ok_or("`...` has nothing before it to repeat")?;
                    if matches!(last, Piece::Literal(_)) {
                        return Err("`...` repeats a capture or a group in round brackets".into());
                    }
                    if nullable(std::slice::from_ref(&last)) {
                        return Err("`...` would repeat an empty match".into());
                    }
                    Piece::Repeated(vec![last])
                }
                Token::Close(sign) => return Err(format!("`{sign}` closes nothing")),
                Token::Bar => return Err("`|` separates alternatives in brackets".into()),
            };
            pieces.push(piece);
        }
        match ends.first() {
            Some(_) => Err("a bracket is not closed".into()),
            None => Ok(pieces),
        }
    }

    /// Content of brackets, up to the closing one.
    fn choice(&mut self, depth: usize, close: char) -> Result<Vec<Piece>, String> {
        let mut all = Vec::new();
        loop {
            let one = self.sequence(depth + 1, &[Token::Close(close), Token::Bar])?;
            if one.is_empty() {
                return Err("nothing is between these brackets or bars".into());
            }
            all.push(one);
            let end = self.tokens.get(self.at).cloned();
            self.at += 1;
            if end != Some(Token::Bar) {
                break;
            }
        }
        Ok(if all.len() == 1 { all.swap_remove(0) } else { vec![Piece::Choice(all)] })
    }

    fn capture(&mut self, text: &str) -> Result<Piece, String> {
        let (name, kind) =
            text.split_once(':').map_or((text, "word"), |(name, kind)| (name.trim(), kind.trim()));
        if name.is_empty()
            || !name.chars().all(|letter| letter.is_alphanumeric() || letter == '-' || letter == '_')
        {
            return Err(format!("`{{{text}}}`: a capture has a name of letters, digits, `-` and `_`"));
        }
        let kind = Kind::parse(kind, self.maps).map_err(|why| format!("`{{{text}}}`: {why}"))?;
        if let Some(at) = self.captures.iter().position(|(known, _)| known == name) {
            if self.captures[at].1 != kind {
                return Err(format!("`{name}` is captured twice, with different types"));
            }
            return Ok(Piece::Capture(at, kind));
        }
        self.captures.push((name.to_owned(), kind.clone()));
        Ok(Piece::Capture(self.captures.len() - 1, kind))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(text: &str) -> Vec<Word<'_>> {
        text.split(' ').filter(|word| !word.is_empty()).map(|text| Word::bare(text, 0, 0)).collect()
    }

    fn matched(pattern: &str, text: &str) -> Option<Vec<String>> {
        let mut captures = Vec::new();
        let pattern = Pattern::parse(pattern, &mut captures, &BTreeMap::new()).unwrap();
        let words = words(text);
        let taken = pattern.matches(&words)?;
        let told = |(capture, from, to): &Taken| {
            let texts: Vec<&str> = words[*from..*to].iter().map(|word| word.text).collect();
            format!("{}={}", captures[*capture].0, texts.join(" "))
        };
        Some(taken.iter().map(told).collect())
    }

    #[test]
    fn statements_fit_or_do_not() {
        for (pattern, text, wanted) in [
            ("port {p:port} open", "port 443 open", Some(vec!["p=443"])),
            ("port {p:port} open", "port 70000 open", None),
            ("port {p:port}", "port 443 open", None),
            ("pass {a} [to {b}] [log]", "pass x to y log", Some(vec!["a=x", "b=y"])),
            ("pass {a} [to {b}] [log]", "pass x log", Some(vec!["a=x"])),
            ("pass {a} [to {b}] [log]", "pass x log to y", None),
            ("members {m}...", "members a b c", Some(vec!["m=a", "m=b", "m=c"])),
            ("(allow | let {w} by) {a}", "let x by y", Some(vec!["w=x", "a=y"])),
            ("(allow | let {w} by) {a}", "allow y", Some(vec!["a=y"])),
            ("([or] {a:number})...", "1 or 2 3", Some(vec!["a=1", "a=2", "a=3"])),
            ("say {t:rest}", "say a b c", Some(vec!["t=a b c"])),
            ("net {n:masked}", "net 10.4.0.0 255.255.255.0", Some(vec!["n=10.4.0.0 255.255.255.0"])),
            ("\"[a]\" {x}", "[a] b", Some(vec!["x=b"])),
        ] {
            let wanted = wanted.map(|all| all.into_iter().map(str::to_owned).collect::<Vec<_>>());
            assert_eq!(matched(pattern, text), wanted, "{pattern}: {text}");
        }
    }

    #[test]
    fn wrong_patterns_say_why() {
        for (pattern, part) in [
            ("", "empty"),
            ("{a", "closed"),
            ("[a", "closed"),
            ("a ]", "closes nothing"),
            (
                "[a]",
                "this pattern matches a statement without words; at least one word must be fixed or captured",
            ),
            ("a ...", "`...` repeats a capture or a group in round brackets"),
            ("[{a}]... b", "`...` would repeat an empty match"),
            ("{a:wrd}", "`word`"),
            ("{a:port} {a:word}", "twice"),
            ("a | b", "alternatives"),
            ("()", "nothing is between these brackets or bars"),
            ("{b c}", "name of letters"),
        ] {
            let error = Pattern::parse(pattern, &mut Vec::new(), &BTreeMap::new()).unwrap_err();
            assert!(error.contains(part), "{pattern}: {error}");
        }
    }

    #[test]
    fn no_pattern_runs_for_ever() {
        let nested = "((([x] {a})... [y])... [z])... end";
        let mut captures = Vec::new();
        let pattern = Pattern::parse(nested, &mut captures, &BTreeMap::new()).unwrap();
        let text = "a ".repeat(5000);
        assert!(pattern.matches(&words(&text)).is_none());
    }
}
