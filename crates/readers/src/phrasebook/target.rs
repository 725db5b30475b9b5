//! Destinations of captured values in a phrasebook: paths into a device sheet, and values for them.

use super::value::Captures;
use crate::sheet::node::{Node, Value};
use smol_str::SmolStr;
use std::collections::BTreeSet;
use std::sync::Arc;
use trevlin_model::Origin;

/// A text with captures in it.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Template(Vec<Part>);

#[derive(Debug, Clone, PartialEq)]
enum Part {
    Text(String),
    Capture(usize),
    /// The same, and nothing where it took nothing.
    Maybe(usize),
}

/// Selects an entry of a list.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Pick {
    /// The value present is not a list.
    None,
    /// A new one for every statement.
    New,
    /// The statement at this level of the phrase, from 1.
    Statement(usize),
    /// The one in which a field has this value.
    Field(Arc<str>, Template),
    /// The entry with this key in the phrasebook.
    Called(Template),
}

/// A path into a sheet: `rules[{n}].services[]`.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Target(pub(super) Vec<Segment>);

/// A name of a path, and the selected entry of the list.
pub(super) type Segment = (Arc<str>, Pick);

/// The value to be set.
#[derive(Debug, Clone)]
pub(super) enum Plan {
    Capture(usize),
    Text(Template),
    Fixed(Node),
    List(Vec<Plan>),
    Table(Vec<(Arc<str>, Plan)>),
    /// The value at another path once everything is read.
    Copy(Target),
    /// Texts one behind the other, those at other paths with them.
    Join(Vec<Plan>),
    /// The value of a capture, where it took anything.
    Maybe(usize),
}

fn capture(name: &str, captures: &Captures) -> Result<usize, String> {
    captures.iter().position(|(known, _)| known == name).ok_or_else(|| {
        let known: Vec<&str> = captures.iter().map(|(known, _)| known.as_str()).collect();
        format!("`{{{name}}}` is not captured by this phrase; {}", crate::sheet::take::nearest(name, &known))
    })
}

impl Template {
    fn parse(text: &str, captures: &Captures) -> Result<Self, String> {
        let mut parts = Vec::new();
        let mut rest = text;
        while let Some(open) = rest.find('{') {
            let close = rest[open..].find('}').ok_or("`{` is not closed by `}`")? + open;
            if open > 0 {
                parts.push(Part::Text(rest[..open].to_owned()));
            }
            let name = rest[open + 1..close].trim();
            parts.push(match name.strip_suffix('?') {
                Some(name) => Part::Maybe(capture(name, captures)?),
                None => Part::Capture(capture(name, captures)?),
            });
            rest = &rest[close + 1..];
        }
        if !rest.is_empty() {
            parts.push(Part::Text(rest.to_owned()));
        }
        Ok(Self(parts))
    }

    pub(super) fn fill(&self, values: &Values) -> Option<SmolStr> {
        // Most are a literal word of the export.
        if let [Part::Capture(number)] = self.0.as_slice()
            && let Value::Text(text) = &values.get(*number)?.value
            && text.trim().len() == text.len()
        {
            return Some(text.clone());
        }
        let mut text = String::new();
        for part in &self.0 {
            match part {
                Part::Text(part) => text.push_str(part),
                Part::Capture(number) => words(values.get(*number)?, &mut text),
                Part::Maybe(number) => values.get(*number).into_iter().for_each(|one| words(one, &mut text)),
            }
        }
        let text = text.trim();
        // Nothing but optional values, none of which is there.
        let empty = text.is_empty() && self.0.iter().any(|part| matches!(part, Part::Maybe(_)));
        (!empty).then(|| text.into())
    }

    /// Whether it has nothing but optional values.
    fn is_optional(&self) -> bool {
        self.0.iter().all(|part| match part {
            Part::Text(text) => text.trim().is_empty(),
            Part::Maybe(_) => true,
            Part::Capture(_) => false,
        })
    }

    fn used(&self, into: &mut Vec<usize>) {
        for part in &self.0 {
            match part {
                Part::Capture(number) | Part::Maybe(number) => into.push(*number),
                Part::Text(_) => {}
            }
        }
    }
}

/// Adds the text of a value; values of a list with commas between them.
pub(super) fn words(node: &Node, into: &mut String) {
    match &node.value {
        Value::Text(text) => into.push_str(text),
        Value::Number(number) => into.push_str(&number.to_string()),
        Value::Fraction(number) => into.push_str(&number.to_string()),
        Value::Truth(truth) => into.push_str(if *truth { "true" } else { "false" }),
        Value::List(all) => {
            for (at, one) in all.iter().enumerate() {
                if at > 0 {
                    into.push(',');
                }
                words(one, into);
            }
        }
        Value::Table(_) => {}
    }
}

/// Values of the captures of a match.
#[derive(Debug, Default)]
pub(super) struct Values(pub(super) Vec<Option<Node>>);

impl Values {
    pub(super) fn get(&self, number: usize) -> Option<&Node> {
        self.0.get(number)?.as_ref()
    }

    /// Takes the value of a capture out.
    pub(super) fn take(&mut self, number: usize) -> Option<Node> {
        self.0.get_mut(number)?.take()
    }

    /// Adds a captured value; several values of one capture become a list.
    pub(super) fn add(&mut self, number: usize, node: Node) {
        if self.0.len() <= number {
            self.0.resize_with(number + 1, || None);
        }
        let slot = &mut self.0[number];
        *slot = Some(match slot.take() {
            None => node,
            Some(Node { value: Value::List(mut all), origin }) => {
                match node.value {
                    Value::List(more) => all.extend(more),
                    _ => all.push(node),
                }
                Node { origin, value: Value::List(all) }
            }
            Some(first) => Node { origin: first.origin, value: Value::List(vec![first, node]) },
        });
    }
}

impl Target {
    pub(super) fn parse(text: &str, captures: &Captures, levels: usize) -> Result<Self, String> {
        let mut segments = Vec::new();
        let mut rest = text.trim();
        while !rest.is_empty() {
            let end = rest.find(['.', '[']).unwrap_or(rest.len());
            let key = &rest[..end];
            if key.is_empty() {
                return Err(format!("`{text}`: expected a name before `{}`", &rest[..1]));
            }
            rest = &rest[end..];
            let mut pick = Pick::None;
            if let Some(inner) = rest.strip_prefix('[') {
                let close = closing(inner).ok_or_else(|| format!("`{text}`: `[` is not closed by `]`"))?;
                pick = Self::pick(&inner[..close], captures, levels)?;
                rest = &inner[close + 1..];
            }
            segments.push((Arc::from(key), pick));
            match rest.strip_prefix('.') {
                Some("") => return Err(format!("`{text}`: expected a name after the last dot")),
                Some(more) => rest = more,
                None if rest.is_empty() => {}
                None => return Err(format!("`{text}`: expected a dot before `{rest}`")),
            }
        }
        if segments.is_empty() { Err("expected a path into the sheet".into()) } else { Ok(Self(segments)) }
    }

    fn pick(text: &str, captures: &Captures, levels: usize) -> Result<Pick, String> {
        let text = text.trim();
        if text.is_empty() {
            return Ok(Pick::New);
        }
        if let Some(level) = text.strip_prefix('@') {
            let level = level.parse().ok().filter(|level| (1..=levels).contains(level));
            return level
                .map(Pick::Statement)
                .ok_or_else(|| format!("`[{text}]` names a level of the phrase, from @1 to @{levels}"));
        }
        // A capture may hold an equals sign of its own only in its name, which has none.
        match text.split_once('=') {
            Some((field, value)) => {
                Ok(Pick::Field(field.trim().into(), Template::parse(value.trim(), captures)?))
            }
            None => Ok(Pick::Called(Template::parse(text, captures)?)),
        }
    }

    /// Names of the path, lists with brackets: `rules[].services[]`.
    pub(super) fn shape(&self) -> Vec<(&str, bool)> {
        self.0.iter().map(|(key, pick)| (&**key, *pick != Pick::None)).collect()
    }

    /// A copy that shares no counter with this one.
    fn apart(&self) -> Self {
        let pick = |pick: &Pick| match pick {
            Pick::Field(field, value) => Pick::Field(Arc::from(&**field), value.clone()),
            other => other.clone(),
        };
        Self(self.0.iter().map(|(key, one)| (Arc::from(&**key), pick(one))).collect())
    }

    /// The path up to the first new entry that has fields.
    pub(super) fn new_entry(&self) -> Option<&[Segment]> {
        let at = self.0.iter().position(|(_, pick)| *pick == Pick::New)?;
        (at + 1 < self.0.len()).then(|| &self.0[..=at])
    }

    /// The first name.
    pub(super) fn section(&self) -> Option<&str> {
        self.0.first().map(|(key, _)| &**key)
    }

    /// The first name, with the selected entry.
    pub(super) fn first(&self) -> Option<&Segment> {
        self.0.first()
    }

    /// The level of a phrase, from 0, whose statement is the block of the entry: the one that is named, or that which has the captures of
    /// its key; otherwise the innermost. And whether other blocks may land in the same entry.
    pub(super) fn block(&self, level_of: impl Fn(usize) -> usize, levels: usize) -> (usize, bool) {
        let innermost = levels.saturating_sub(1);
        match self.0.first().map(|(_, pick)| pick) {
            Some(Pick::Statement(level)) => (level - 1, false),
            Some(Pick::Field(_, template) | Pick::Called(template)) => {
                let mut used = Vec::new();
                template.used(&mut used);
                (used.into_iter().map(level_of).max().unwrap_or(innermost), true)
            }
            _ => (innermost, false),
        }
    }

    /// Fields that picks by value set.
    pub(super) fn fields(&self) -> Vec<(usize, &str)> {
        let mut found = Vec::new();
        for (at, (_, pick)) in self.0.iter().enumerate() {
            if let Pick::Field(field, _) = pick {
                found.push((at, &**field));
            }
        }
        found
    }

    pub(super) fn used(&self, into: &mut Vec<usize>) {
        for (_, pick) in &self.0 {
            match pick {
                Pick::Field(_, template) | Pick::Called(template) => template.used(into),
                _ => {}
            }
        }
    }
}

/// Where a bracket closes, brackets of captures left aside.
fn closing(text: &str) -> Option<usize> {
    let mut depth = 0;
    for (at, letter) in text.char_indices() {
        match letter {
            '{' => depth += 1,
            '}' => depth -= 1,
            ']' if depth <= 0 => return Some(at),
            _ => {}
        }
    }
    None
}

/// Copies for a thread of its own. Names are counted references: where two threads count the same ones up and down a million times,
/// they wait for each other.
pub(super) fn apart(lands: &[(Target, Plan)]) -> Vec<(Target, Plan)> {
    lands.iter().map(|(target, plan)| (target.apart(), plan.apart())).collect()
}

impl Plan {
    fn apart(&self) -> Self {
        match self {
            Self::List(all) => Self::List(all.iter().map(Self::apart).collect()),
            Self::Table(all) => {
                Self::Table(all.iter().map(|(key, plan)| (Arc::from(&**key), plan.apart())).collect())
            }
            Self::Join(all) => Self::Join(all.iter().map(Self::apart).collect()),
            Self::Copy(target) => Self::Copy(target.apart()),
            other => other.clone(),
        }
    }

    /// Type of a value of a phrasebook.
    pub(super) fn of(node: &Node, captures: &Captures, levels: usize) -> Result<Self, (Origin, String)> {
        let at = |why| (node.origin, why);
        Ok(match &node.value {
            Value::Text(text) if text.contains('{') => {
                let template = Template::parse(text, captures).map_err(at)?;
                match template.0.as_slice() {
                    [Part::Capture(number)] => Self::Capture(*number),
                    [Part::Maybe(number)] => Self::Maybe(*number),
                    _ => Self::Text(template),
                }
            }
            Value::List(all) => {
                let plans =
                    all.iter().map(|one| Self::of(one, captures, levels)).collect::<Result<_, _>>()?;
                Self::List(plans)
            }
            Value::Table(entries) => match entries.as_slice() {
                [only] if &*only.key == "copy" => {
                    let path = only.node.text().unwrap_or_default();
                    Self::Copy(Target::parse(path, captures, levels).map_err(at)?)
                }
                [only] if &*only.key == "join" => {
                    let parts = only.node.each().iter().map(|one| Self::of(one, captures, levels));
                    Self::Join(parts.collect::<Result<_, _>>()?)
                }
                entries => {
                    let plans = entries
                        .iter()
                        .map(|entry| Ok((Arc::clone(&entry.key), Self::of(&entry.node, captures, levels)?)));
                    Self::Table(plans.collect::<Result<_, _>>()?)
                }
            },
            _ => Self::Fixed(node.clone()),
        })
    }

    /// Whether a table without this value is not complete.
    pub(super) fn is_needed(&self) -> bool {
        match self {
            Self::Maybe(_) => false,
            Self::Text(template) => !template.is_optional(),
            Self::List(all) => all.iter().all(Self::is_needed),
            _ => true,
        }
    }

    /// First names of the paths that it copies from.
    pub(super) fn copied(&self, into: &mut BTreeSet<Arc<str>>) {
        match self {
            Self::Copy(target) => into.extend(target.0.first().map(|(name, _)| Arc::clone(name))),
            Self::List(all) | Self::Join(all) => all.iter().for_each(|one| one.copied(into)),
            Self::Table(entries) => entries.iter().for_each(|(_, one)| one.copied(into)),
            Self::Capture(_) | Self::Maybe(_) | Self::Text(_) | Self::Fixed(_) => {}
        }
    }

    pub(super) fn used(&self, into: &mut Vec<usize>) {
        match self {
            Self::Capture(number) | Self::Maybe(number) => into.push(*number),
            Self::Text(template) => template.used(into),
            Self::Fixed(_) => {}
            Self::List(all) | Self::Join(all) => all.iter().for_each(|one| one.used(into)),
            Self::Table(entries) => entries.iter().for_each(|(_, one)| one.used(into)),
            Self::Copy(target) => target.used(into),
        }
    }
}
