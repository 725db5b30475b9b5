//! The sections of Python's `configparser` as fail2ban uses it: values over several lines, names of other values inside, later files
//! over earlier ones.
//!
//! Format: jail.conf(5); the library's documentation of `configparser`.

use std::collections::BTreeMap;
use trevlin_model::{Export, Origin};

/// A value and where it stands.
#[derive(Debug, Clone)]
pub(super) struct Value {
    pub(super) text: String,
    pub(super) origin: Origin,
}

/// Values of a section, by name.
pub(super) type Section = BTreeMap<String, Value>;

/// All files of a program together.
#[derive(Debug, Default)]
pub(super) struct Settings {
    /// Names of the sections, in order of appearance.
    order: Vec<String>,
    sections: BTreeMap<String, Section>,
    /// What an earlier file said of the same name.
    earlier: BTreeMap<String, Section>,
}

/// The section that all others fall back on.
const DEFAULT: &str = "DEFAULT";
/// How deep names are replaced (`configparser`, `MAX_INTERPOLATION_DEPTH`).
const DEPTH: usize = 10;

/// Kind of a line of a file.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Line {
    Understood,
    Strange(&'static str),
}

/// Sections of a file, in their order, by name.
pub(super) type Sections = Vec<(String, Section)>;

/// The sections of one file, with the kind of each of its lines.
pub(super) fn parse(export: &Export) -> (Sections, Vec<(Origin, Line)>) {
    let mut found = Sections::new();
    let mut lines = Vec::new();
    let mut open: Option<(String, usize)> = None;
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with(['#', ';']) {
            continue;
        }
        let origin = export.origin_of(text);
        let indent = line.text.len() - line.text.trim_start().len();
        let value = before_comment(text);
        if let Some((key, above)) = &open
            && indent > *above
        {
            // It goes on with the value above.
            if let Some(entry) = found.last_mut().and_then(|(_, section)| section.get_mut(key)) {
                entry.text.push('\n');
                entry.text.push_str(value);
            }
            lines.push((origin, Line::Understood));
            continue;
        }
        open = None;
        if let Some(name) = value.strip_prefix('[').and_then(|rest| rest.split(']').next()) {
            if name != DEFAULT && found.iter().any(|(known, _)| known == name) {
                lines.push((origin, Line::Strange("expected each section once: the program does not start")));
            } else {
                lines.push((origin, Line::Understood));
            }
            found.push((name.to_owned(), Section::new()));
            continue;
        }
        let Some((key, value)) = value.split_once(['=', ':']) else {
            lines.push((origin, Line::Strange("expected `[section]` or `name = value`")));
            continue;
        };
        let key = key.trim().to_ascii_lowercase();
        let Some((_, section)) = found.last_mut() else {
            lines.push((
                origin,
                Line::Strange("expected `[section]` above this line: the program does not start"),
            ));
            continue;
        };
        let value = Value { text: value.trim().to_owned(), origin };
        let twice = section.insert(key.clone(), value).is_some();
        lines.push((
            origin,
            if twice {
                Line::Strange("expected each name once in a section: the program does not start")
            } else {
                Line::Understood
            },
        ));
        open = Some((key, indent));
    }
    (found, lines)
}

/// A value without the comment behind it: a semicolon after a blank.
fn before_comment(text: &str) -> &str {
    let mut blank = true;
    for (at, letter) in text.char_indices() {
        if letter == ';' && blank {
            return text[..at].trim_end();
        }
        blank = letter.is_whitespace();
    }
    text
}

impl Settings {
    /// Takes a file over what was read before.
    pub(super) fn add(&mut self, file: Sections) {
        for (name, section) in file {
            if name != DEFAULT && !self.order.contains(&name) {
                self.order.push(name.clone());
            }
            let known = self.sections.entry(name.clone()).or_default();
            for (key, value) in section {
                if let Some(before) = known.insert(key.clone(), value) {
                    self.earlier.entry(name.clone()).or_default().insert(key, before);
                }
            }
        }
    }

    /// The sections other than the one for all.
    pub(super) fn names(&self) -> impl Iterator<Item = &str> {
        self.order.iter().map(String::as_str)
    }

    /// The value in a section or, without one, in that for all.
    pub(super) fn raw(&self, section: &str, key: &str) -> Option<&Value> {
        self.own(section, key).or_else(|| self.own(DEFAULT, key))
    }

    /// The value in a section itself.
    pub(super) fn own(&self, section: &str, key: &str) -> Option<&Value> {
        self.sections.get(section)?.get(key)
    }

    /// A value with the names in it replaced; `Err` names the one that has no value.
    pub(super) fn get(&self, section: &str, key: &str) -> Option<Result<Value, String>> {
        let value = self.raw(section, key)?;
        let text = self.replaced(section, &value.text, DEPTH);
        Some(text.map(|text| Value { text, origin: value.origin }))
    }

    fn replaced(&self, section: &str, text: &str, depth: usize) -> Result<String, String> {
        let mut made = String::new();
        let mut rest = text;
        while let Some(at) = rest.find('%') {
            made.push_str(&rest[..at]);
            rest = &rest[at + 1..];
            if let Some(after) = rest.strip_prefix('%') {
                made.push('%');
                rest = after;
            } else if let Some((name, after)) =
                rest.strip_prefix('(').and_then(|inner| inner.split_once(")s"))
            {
                if depth == 0 {
                    return Err(name.to_owned());
                }
                let value = self.named(section, name).ok_or_else(|| name.to_owned())?;
                made.push_str(&self.replaced(section, &value, depth - 1)?);
                rest = after;
            } else {
                return Err("%".to_owned());
            }
        }
        made.push_str(rest);
        Ok(made)
    }

    /// The value of a name in a value: `name`, `section/name`, `known/name`, `default/name`, `__name__`.
    fn named(&self, section: &str, name: &str) -> Option<String> {
        if name == "__name__" {
            return Some(section.to_owned());
        }
        let lower = name.to_ascii_lowercase();
        let value = match lower.split_once('/') {
            None => self.raw(section, &lower),
            Some(("known", key)) => {
                self.earlier.get(section).and_then(|known| known.get(key)).or_else(|| self.own(DEFAULT, key))
            }
            Some(("default", key)) => self.own(DEFAULT, key),
            Some((other, key)) => {
                let other = &name[..other.len()];
                self.own(other, key).or_else(|| self.own(DEFAULT, key))
            }
        };
        value.map(|value| value.text.clone())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn settings(files: &[&str]) -> Settings {
        let mut settings = Settings::default();
        for text in files {
            settings.add(parse(&Export::new(ExportId(0), "x", (*text).to_owned())).0);
        }
        settings
    }

    #[test]
    fn values() {
        let all = settings(&[
            "[DEFAULT]\nport = 0:65535\nban = multi\naction_ = %(ban)s[port=\"%(port)s\"]\naction = %(action_)s\n\n[sshd]\nPort: ssh ; usual\nlist = a\n  b\n # not this\n  c\n",
            "[sshd]\nport = 2222,%(known/port)s\nshare = 5%%\nof = %(web/port)s %(__name__)s\nnone = %(missing)s\nround = %(round)s\n[web]\nport = http\n",
        ]);
        let get = |section: &str, key: &str| all.get(section, key).map(|one| one.map(|one| one.text));
        for (section, key, wanted) in [
            ("sshd", "port", Ok("2222,ssh")),
            ("sshd", "list", Ok("a\nb\nc")),
            ("sshd", "action", Ok("multi[port=\"2222,ssh\"]")),
            ("sshd", "share", Ok("5%")),
            ("sshd", "of", Ok("http sshd")),
            ("sshd", "none", Err("missing")),
            ("sshd", "round", Err("round")),
            ("web", "ban", Ok("multi")),
        ] {
            let wanted = wanted.map(str::to_owned).map_err(str::to_owned);
            assert_eq!(get(section, key), Some(wanted), "{section} {key}");
        }
        assert_eq!(all.names().collect::<Vec<_>>(), ["sshd", "web"]);
    }

    #[test]
    fn strange_lines() {
        let export = Export::new(ExportId(0), "x", "a = 1\n[b]\nc = 1\nC = 2\nwhat\n[b]\n".to_owned());
        let strange: Vec<u32> = parse(&export)
            .1
            .iter()
            .filter(|(_, line)| *line != Line::Understood)
            .map(|(origin, _)| export.line_of(origin.start))
            .collect();
        assert_eq!(strange, [1, 4, 5, 6]);
    }
}
