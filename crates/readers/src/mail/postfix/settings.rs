//! `main.cf` and `master.cf`: logical lines, names in values, and what a service of `master.cf` overrides.
//!
//! Format: postconf(5), master(5).

use std::collections::BTreeMap;
use trevlin_model::{Export, Origin};

/// A value as written, and its place.
pub(super) type Written = (String, Origin);

/// The words of one logical line: lines that begin with a blank go on with the one above.
pub(super) struct Logical<'a> {
    /// Its pieces, one for each line of the file.
    pub(super) pieces: Vec<&'a str>,
}

impl<'a> Logical<'a> {
    pub(super) fn words(&self) -> impl Iterator<Item = &'a str> {
        self.pieces.iter().flat_map(|piece| piece.split_whitespace())
    }
}

/// The logical lines of a file; comments stand for themselves, also between the pieces of one (postconf(5)).
pub(super) fn logical(export: &Export) -> Vec<Logical<'_>> {
    let mut found: Vec<Logical<'_>> = Vec::new();
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let goes_on = line.text.starts_with([' ', '\t']);
        match found.last_mut().filter(|_| goes_on) {
            Some(last) => last.pieces.push(text),
            None => found.push(Logical { pieces: vec![text] }),
        }
    }
    found
}

/// Settings of `main.cf`, by name: the last of several counts.
pub(super) fn main(export: &Export) -> (BTreeMap<String, Written>, Vec<Origin>) {
    let (mut found, mut strange) = (BTreeMap::new(), Vec::new());
    for line in logical(export) {
        let first = line.pieces.first().copied().unwrap_or_default();
        let Some((name, value)) = first.split_once('=') else {
            strange.push(export.origin_of(first));
            continue;
        };
        let mut text = value.trim().to_owned();
        for piece in line.pieces.iter().skip(1) {
            text.push(' ');
            text.push_str(piece);
        }
        found.insert(name.trim().to_owned(), (text.trim().to_owned(), export.origin_of(first)));
    }
    (found, strange)
}

/// A service of `master.cf`.
#[derive(Debug, Clone)]
pub(super) struct Service {
    /// The first column: a port, a place with a port, or a name.
    pub(super) name: String,
    /// `inet`, `unix`, `pass`, `fifo`.
    pub(super) kind: String,
    /// The program.
    pub(super) command: String,
    /// What `-o` overrides.
    pub(super) overrides: BTreeMap<String, Written>,
    /// Options that no daemon has.
    pub(super) strange: Vec<Origin>,
    pub(super) origin: Origin,
}

/// The services of `master.cf`, and lines that are none.
pub(super) fn master(export: &Export) -> (Vec<Service>, Vec<Origin>) {
    const COLUMNS: usize = 8;
    let (mut found, mut strange) = (Vec::new(), Vec::new());
    for line in logical(export) {
        let words: Vec<&str> = line.words().collect();
        let origin = export.origin_of(line.pieces.first().copied().unwrap_or_default());
        if words.len() < COLUMNS {
            strange.push(origin);
            continue;
        }
        let (mut overrides, mut none) = (BTreeMap::new(), Vec::new());
        // Other programs have options of their own.
        let own =
            matches!(words[COLUMNS - 1], "smtpd" | "postscreen" | "smtp" | "lmtp" | "cleanup" | "tlsproxy");
        let mut rest = words[COLUMNS..].iter().copied();
        while let Some(word) = rest.next() {
            let option = match word.strip_prefix("-o") {
                Some("") => rest.next(),
                Some(joined) => Some(joined),
                None => None,
            };
            let Some(option) = option else {
                let known = ["-v", "-D"].contains(&word);
                if own && word.starts_with('-') && !known {
                    none.push(export.origin_of(word));
                }
                continue;
            };
            // `{ name = value }` may hold blanks.
            let (mut text, at) = (option.trim_start_matches('{').to_owned(), option);
            if option.starts_with('{') && !option.ends_with('}') {
                for more in rest.by_ref() {
                    text.push(' ');
                    text.push_str(more);
                    if more.ends_with('}') {
                        break;
                    }
                }
            }
            if let Some((name, value)) = text.trim().trim_end_matches('}').split_once('=') {
                let value = value.trim().to_owned();
                overrides.insert(name.trim().to_owned(), (value, export.origin_of(at)));
            }
        }
        found.push(Service {
            name: words[0].to_owned(),
            kind: words[1].to_owned(),
            command: words[COLUMNS - 1].to_owned(),
            overrides,
            strange: none,
            origin,
        });
    }
    (found, strange)
}

/// The settings that hold for one service.
pub(super) struct Scope<'s> {
    pub(super) main: &'s BTreeMap<String, Written>,
    pub(super) overrides: Option<&'s BTreeMap<String, Written>>,
    pub(super) defaults: &'s BTreeMap<String, String>,
}

/// How deep names in values are replaced.
const DEPTH: usize = 16;

impl Scope<'_> {
    /// A value as written, for the service or otherwise for all.
    pub(super) fn written(&self, name: &str) -> Option<&Written> {
        self.overrides.and_then(|overrides| overrides.get(name)).or_else(|| self.main.get(name))
    }

    /// A value with the names in it replaced, and its line where a file states it.
    pub(super) fn get(&self, name: &str) -> (String, Option<Origin>) {
        match self.written(name) {
            Some((text, origin)) => (self.replaced(text, DEPTH), Some(*origin)),
            None => (self.default(name, DEPTH), None),
        }
    }

    /// Whether a value is `yes`, with its line.
    pub(super) fn is_on(&self, name: &str) -> (bool, Option<Origin>) {
        let (text, origin) = self.get(name);
        (text.eq_ignore_ascii_case("yes"), origin)
    }

    fn default(&self, name: &str, depth: usize) -> String {
        self.defaults.get(name).map(|text| self.replaced(text, depth)).unwrap_or_default()
    }

    fn value(&self, name: &str, depth: usize) -> String {
        match self.written(name) {
            Some((text, _)) => self.replaced(text, depth),
            None => self.default(name, depth),
        }
    }

    /// `$name`, `$(name)`, `${name}`, `${name?text}`, `${name:text}` (postconf(5)). Comparisons are left out.
    fn replaced(&self, text: &str, depth: usize) -> String {
        if depth == 0 || !text.contains('$') {
            return text.to_owned();
        }
        let (mut made, mut rest) = (String::new(), text);
        while let Some(at) = rest.find('$') {
            made.push_str(&rest[..at]);
            rest = &rest[at + 1..];
            if let Some(after) = rest.strip_prefix('$') {
                made.push('$');
                rest = after;
                continue;
            }
            let close = match rest.chars().next() {
                Some('{') => Some('}'),
                Some('(') => Some(')'),
                _ => None,
            };
            let Some(close) = close else {
                let end = rest
                    .find(|letter: char| !letter.is_ascii_alphanumeric() && letter != '_')
                    .unwrap_or(rest.len());
                made.push_str(&self.value(&rest[..end], depth - 1));
                rest = &rest[end..];
                continue;
            };
            let (inner, after) = enclosed(rest, close);
            rest = after;
            let (name, test) = match inner.find(['?', ':']) {
                Some(at) => (&inner[..at], Some((&inner[at..at + 1], &inner[at + 1..]))),
                None => (inner, None),
            };
            let value = self.value(name, depth - 1);
            match test {
                None => made.push_str(&value),
                Some(("?", then)) => {
                    let (yes, no) = branches(then);
                    let chosen = if value.is_empty() { no } else { yes };
                    made.push_str(&self.replaced(chosen, depth - 1));
                }
                Some((_, otherwise)) => {
                    if value.is_empty() {
                        made.push_str(&self.replaced(branches(otherwise).0, depth - 1));
                    }
                }
            }
        }
        made.push_str(rest);
        made
    }
}

/// What stands between a bracket and the one that closes it, and what follows.
fn enclosed(text: &str, close: char) -> (&str, &str) {
    let open = text.chars().next();
    let mut depth = 0_usize;
    for (at, letter) in text.char_indices() {
        if Some(letter) == open {
            depth += 1;
        } else if letter == close {
            depth -= 1;
            if depth == 0 {
                return (&text[1..at], &text[at + 1..]);
            }
        }
    }
    (text.get(1..).unwrap_or_default(), "")
}

/// `text`, or `{text} : {text}`.
fn branches(text: &str) -> (&str, &str) {
    if !text.starts_with('{') {
        return (text, "");
    }
    let (yes, after) = enclosed(text, '}');
    let no = after.trim_start().strip_prefix(':').map_or("", str::trim_start);
    (yes.trim(), if no.starts_with('{') { enclosed(no, '}').0.trim() } else { no })
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn values() {
        let text = "mydomain = quay.example\nmyorigin = $mydomain\nmynetworks = 127.0.0.0/8\n  10.4.0.0/16\n# not this\n  192.0.2.0/24\n\
                    x = ${mydomain?yes}${none?no}${none:other} $(mydomain) $$5 ${none?{a}:{b}}\nmyorigin = mail.$mydomain\nround = $round\n";
        let export = Export::new(ExportId(0), "d/main.cf", text.into());
        let (main, strange) = main(&export);
        assert!(strange.is_empty());
        let scope = Scope { main: &main, overrides: None, defaults: &BTreeMap::new() };
        for (name, wanted) in [
            ("myorigin", "mail.quay.example"),
            ("mynetworks", "127.0.0.0/8 10.4.0.0/16 192.0.2.0/24"),
            ("x", "yesother quay.example $5 b"),
            ("round", "$round"),
        ] {
            assert_eq!(scope.get(name).0, wanted, "{name}");
        }
    }

    #[test]
    fn services() {
        let text = "smtp inet n - y - - smtpd\n#submission inet n - y - - smtpd\n587 inet n - y - - smtpd\n  -o smtpd_tls_security_level=encrypt\n\
                    \x20 -o { smtpd_client_restrictions = permit_sasl_authenticated, reject }\n  -osyslog_name=postfix/sub\nshort line\n";
        let export = Export::new(ExportId(0), "d/master.cf", text.into());
        let (services, strange) = master(&export);
        assert_eq!((services.len(), strange.len()), (2, 1));
        let told: Vec<(&str, &str)> =
            services[1].overrides.iter().map(|(name, (value, _))| (name.as_str(), value.as_str())).collect();
        assert_eq!(
            told,
            [
                ("smtpd_client_restrictions", "permit_sasl_authenticated, reject"),
                ("smtpd_tls_security_level", "encrypt"),
                ("syslog_name", "postfix/sub")
            ]
        );
    }
}
