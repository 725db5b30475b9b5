//! Which keywords there are, how their values are written, and their defaults.

use serde::{Deserialize, Deserializer};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::LazyLock;
use trevlin_model::DefaultValue;
use trevlin_model::ssh::{SshKeyword, matches};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    passed_over: BTreeSet<String>,
    ignored: BTreeSet<String>,
    aliases: BTreeMap<String, String>,
    #[serde(deserialize_with = "in_order")]
    keyword: Vec<Known>,
}

/// Keywords in order of name, as they are looked up.
fn in_order<'de, D: Deserializer<'de>>(table: D) -> Result<Vec<Known>, D::Error> {
    let mut all = Vec::<Known>::deserialize(table)?;
    all.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(all)
}

/// How a value is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Kind {
    Flag,
    Choice,
    Number,
    Time,
    Word,
    Line,
    Words,
    List,
    Algorithms,
}

/// A keyword that is analysed.
#[derive(Deserialize)]
pub(super) struct Known {
    pub(super) name: String,
    kind: Kind,
    #[serde(default, rename = "match")]
    pub(super) in_match: bool,
    #[serde(default)]
    choices: Vec<String>,
    #[serde(default)]
    standard: Vec<String>,
    #[serde(default)]
    supported: Vec<String>,
    #[serde(default)]
    checked: Option<String>,
    #[serde(default)]
    default: Vec<Row>,
}

#[derive(Deserialize)]
struct Row {
    value: String,
    versions: Option<String>,
}

trevlin_model::table! { static TABLE: Table = "../../tables/sshd-keywords.toml"; }

static MODELLED: LazyLock<Vec<SshKeyword>> =
    LazyLock::new(|| TABLE.keyword.iter().map(Known::model).collect());

/// Every keyword that is analysed, in order of name.
pub(crate) fn modelled() -> &'static [SshKeyword] {
    &MODELLED
}

/// Classification of a keyword.
pub(super) enum Class {
    /// A setting of the server.
    Modelled(&'static Known),
    /// Nothing.
    NoEffect,
    /// Nothing, and the daemon warns about it.
    Ignored,
}

/// The class of a keyword in small letters; `None` where sshd_config(5) has none of that name.
pub(super) fn class(name: &str) -> Option<Class> {
    let name = TABLE.aliases.get(name).map_or(name, String::as_str);
    if let Ok(at) = TABLE.keyword.binary_search_by(|one| one.name.as_str().cmp(name)) {
        return Some(Class::Modelled(&TABLE.keyword[at]));
    }
    if TABLE.passed_over.contains(name) {
        return Some(Class::NoEffect);
    }
    TABLE.ignored.contains(name).then_some(Class::Ignored)
}

impl Known {
    fn model(&self) -> SshKeyword {
        const SOURCE: &str = "sshd_config(5)";
        // The table lives as long as the program, so its texts may as well.
        let lasting = |text: &str| -> &'static str { Box::leak(text.to_owned().into_boxed_str()) };
        let row = |value: Vec<String>, versions: &str| DefaultValue {
            value,
            daemon: "sshd",
            versions: lasting(versions),
            source: SOURCE,
        };
        let mut defaults: Vec<_> = self
            .default
            .iter()
            .map(|one| {
                let value =
                    if self.kind == Kind::Words { split(&one.value) } else { vec![one.value.clone()] };
                row(value, one.versions.as_deref().unwrap_or("all versions"))
            })
            .collect();
        if self.kind == Kind::Algorithms {
            defaults.push(row(self.standard.clone(), self.checked.as_deref().unwrap_or_default()));
        }
        SshKeyword { name: self.name.clone(), joins: self.kind == Kind::List, defaults }
    }

    /// Values as the daemon would show them.
    pub(super) fn values(&self, rest: &str, words: &[String]) -> Result<Vec<String>, String> {
        let name = &self.name;
        let Some(first) = words.first().map(String::as_str).filter(|text| !text.is_empty()) else {
            return Err(format!("a value is missing after `{name}`"));
        };
        match self.kind {
            Kind::Line => return Ok(vec![rest.to_owned()]),
            Kind::Words | Kind::List if name == "port" && first.parse::<u16>().is_err() => {
                return Err(format!("`{first}` is not a port"));
            }
            Kind::Words | Kind::List => return Ok(words.to_vec()),
            _ if words.len() > 1 => return Err(format!("`{name}` takes one value only")),
            _ => {}
        }
        Ok(match self.kind {
            Kind::Flag => vec![
                choice(first, &["yes".to_owned(), "no".to_owned()])
                    .ok_or_else(|| format!("`{name}` takes yes or no"))?,
            ],
            Kind::Choice => {
                let chosen = choice(first, &self.choices)
                    .ok_or_else(|| format!("`{name}` takes one of {}", self.choices.join(", ")))?;
                vec![synonym(&chosen).to_owned()]
            }
            Kind::Number => {
                vec![first.parse::<u32>().map_err(|_| format!("`{name}` takes a number"))?.to_string()]
            }
            Kind::Time => vec![
                seconds(first)
                    .ok_or_else(|| format!("`{name}` takes a time, such as 120 or 2m"))?
                    .to_string(),
            ],
            Kind::Algorithms => self.algorithms(first)?,
            Kind::Word | Kind::Line | Kind::Words | Kind::List => vec![first.to_owned()],
        })
    }

    /// A list of algorithms, resolved with the standard list of the version that the table was checked with.
    fn algorithms(&self, text: &str) -> Result<Vec<String>, String> {
        let names = |text: &str| text.split(',').map(str::to_owned).collect::<Vec<_>>();
        let wanted = match text.split_at_checked(1) {
            Some(("+", added)) => self.standard.iter().cloned().chain(names(added)).collect(),
            Some(("^", first)) => names(first).into_iter().chain(self.standard.iter().cloned()).collect(),
            Some(("-", removed)) => {
                let removed = names(removed);
                let stays = |one: &&String| !removed.iter().any(|pattern| matches(one, pattern));
                return Ok(self.standard.iter().filter(stays).cloned().collect());
            }
            _ => names(text),
        };
        let mut found: Vec<String> = Vec::new();
        // Lists of key types may hold patterns, those of other algorithms only after `-`.
        let key_types = self.name.ends_with("keyalgorithms") || self.name.ends_with("acceptedalgorithms");
        for pattern in wanted {
            if !key_types && pattern.contains(['*', '?']) {
                return Err(format!("`{}` takes names only, not patterns", self.name));
            }
            let mut fitting: Vec<_> =
                self.supported.iter().filter(|one| matches(one, &pattern)).cloned().collect();
            if fitting.is_empty() {
                if pattern.contains(['*', '?', '!']) || pattern.is_empty() {
                    return Err(format!("`{}` has a pattern that matches no algorithm", self.name));
                }
                // An algorithm of another version: kept, since what it is matters more than who knows it.
                fitting.push(pattern);
            }
            for one in fitting {
                if !found.contains(&one) {
                    found.push(one);
                }
            }
        }
        Ok(found)
    }
}

fn split(text: &str) -> Vec<String> {
    text.split(' ').map(str::to_owned).collect()
}

fn choice(text: &str, choices: &[String]) -> Option<String> {
    choices.iter().find(|one| one.eq_ignore_ascii_case(text)).cloned()
}

/// The spelling that the daemon shows, of several with one meaning.
fn synonym(word: &str) -> &str {
    match word {
        "prohibit-password" => "without-password",
        "all" | "delayed" => "yes",
        other => other,
    }
}

/// A time in seconds (sshd_config(5), TIME FORMATS).
fn seconds(text: &str) -> Option<u64> {
    let (mut total, mut number) = (0u64, None::<u64>);
    for letter in text.chars() {
        match letter.to_digit(10) {
            Some(digit) => number = Some(number.unwrap_or(0).checked_mul(10)?.checked_add(u64::from(digit))?),
            None => {
                let unit = match letter {
                    's' | 'S' => 1,
                    'm' | 'M' => 60,
                    'h' | 'H' => 3600,
                    'd' | 'D' => 86_400,
                    'w' | 'W' => 604_800,
                    _ => return None,
                };
                total = total.checked_add(number.take()?.checked_mul(unit)?)?;
            }
        }
    }
    total.checked_add(number.unwrap_or(0)).filter(|_| !text.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_is_sound() {
        assert!(TABLE.keyword.len() > 50);
        for known in &TABLE.keyword {
            assert!(
                !TABLE.passed_over.contains(&known.name) && !TABLE.ignored.contains(&known.name),
                "{}",
                known.name
            );
            assert_eq!(known.kind == Kind::Algorithms, !known.standard.is_empty(), "{}", known.name);
        }
        assert!(TABLE.aliases.values().all(|name| class(name).is_some()));
    }

    #[test]
    fn times() {
        for (text, wanted) in [
            ("120", Some(120)),
            ("2m", Some(120)),
            ("1h30m", Some(5400)),
            ("1h30", Some(3630)),
            ("m", None),
            ("", None),
            ("5x", None),
        ] {
            assert_eq!(seconds(text), wanted, "{text}");
        }
    }
}
