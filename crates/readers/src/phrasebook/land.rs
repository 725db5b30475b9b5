//! Where what a phrase took lands: paths into a device sheet, and the sheet as it grows.

use super::pattern::Captures;
use crate::sheet::node::{Entry, Node, Value};
use std::collections::BTreeMap;
use std::sync::Arc;
use trevlin_model::{Note, Origin};

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

/// Which entry of a list is meant.
#[derive(Debug, Clone, PartialEq)]
enum Pick {
    /// What stands there is no list.
    None,
    /// A new one for every statement.
    New,
    /// The one of the statement so many levels down the phrase, from 1.
    Statement(usize),
    /// The one in which a field has this value.
    Field(Arc<str>, Template),
    /// The one that is called so in the phrasebook.
    Called(Template),
}

/// A path into a sheet: `rules[{n}].services[]`.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Target(Vec<Segment>);

/// A name of a path, and which entry of the list there is meant.
type Segment = (Arc<str>, Pick);

/// What lands there.
#[derive(Debug, Clone)]
pub(super) enum Plan {
    Capture(usize),
    Text(Template),
    Fixed(Node),
    List(Vec<Plan>),
    Table(Vec<(Arc<str>, Plan)>),
    /// What lies at another path once everything is read.
    Copy(Target),
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

    fn fill(&self, values: &Values) -> Option<String> {
        let mut text = String::new();
        for part in &self.0 {
            match part {
                Part::Text(part) => text.push_str(part),
                Part::Capture(number) => text.push_str(&words(values.get(*number)?)),
                Part::Maybe(number) => text.push_str(&values.get(*number).map(words).unwrap_or_default()),
            }
        }
        Some(text.trim().to_owned())
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

fn words(node: &Node) -> String {
    match &node.value {
        Value::Text(text) => text.clone(),
        Value::Number(number) => number.to_string(),
        Value::Fraction(number) => number.to_string(),
        Value::Truth(truth) => truth.to_string(),
        Value::List(all) => all.iter().map(words).collect::<Vec<_>>().join(","),
        Value::Table(_) => String::new(),
    }
}

/// What the captures of a match hold.
#[derive(Debug, Default)]
pub(super) struct Values(pub(super) Vec<Option<Node>>);

impl Values {
    fn get(&self, number: usize) -> Option<&Node> {
        self.0.get(number)?.as_ref()
    }

    /// Adds what a capture took; what one takes several times is a list.
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
                return Err(format!("`{text}`: a name is expected before `{}`", &rest[..1]));
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
                Some("") => return Err(format!("`{text}`: a name is expected behind the last point")),
                Some(more) => rest = more,
                None if rest.is_empty() => {}
                None => return Err(format!("`{text}`: a point is expected before `{rest}`")),
            }
        }
        if segments.is_empty() { Err("a path into the sheet is expected".into()) } else { Ok(Self(segments)) }
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

    /// Whether it begins with one of these.
    pub(super) fn is_below(&self, names: &[&str]) -> bool {
        self.0.first().is_some_and(|(key, _)| names.contains(&&**key))
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

impl Plan {
    /// What a value of a phrasebook says.
    pub(super) fn of(node: &Node, captures: &Captures, levels: usize) -> Result<Self, (Origin, String)> {
        let at = |why| (node.origin, why);
        Ok(match &node.value {
            Value::Text(text) if text.contains('{') => {
                let template = Template::parse(text, captures).map_err(at)?;
                match template.0.as_slice() {
                    [Part::Capture(number)] => Self::Capture(*number),
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

    pub(super) fn used(&self, into: &mut Vec<usize>) {
        match self {
            Self::Capture(number) => into.push(*number),
            Self::Text(template) => template.used(into),
            Self::Fixed(_) => {}
            Self::List(all) => all.iter().for_each(|one| one.used(into)),
            Self::Table(entries) => entries.iter().for_each(|(_, one)| one.used(into)),
            Self::Copy(target) => target.used(into),
        }
    }
}

/// How an entry of a list is found again.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Key {
    New(u64),
    Statement(u64),
    Field(String),
    Called(String),
}

/// A piece of the growing sheet.
#[derive(Debug)]
enum Grown {
    Leaf(Node),
    Table(Table),
    List(List),
    Copy(Vec<(Arc<str>, Option<Key>)>, Origin),
}

#[derive(Debug)]
struct Table {
    fields: Vec<(Arc<str>, Origin, Grown)>,
    origin: Origin,
}

#[derive(Debug, Default)]
struct List {
    items: Vec<Grown>,
    index: BTreeMap<Key, usize>,
    /// The newest entry, which is asked for most.
    newest: Option<(Key, usize)>,
    origin: Option<Origin>,
}

/// The sheet that comes out.
#[derive(Debug)]
pub(super) struct Sheet {
    top: Table,
}

/// The statement that lands: a number of its own, and those of the statements around it with their lines.
pub(super) struct Place<'a> {
    pub(super) number: u64,
    pub(super) line: Origin,
    pub(super) levels: &'a [(u64, Origin)],
}

impl Sheet {
    pub(super) fn new(origin: Origin) -> Self {
        Self { top: Table { fields: Vec::new(), origin } }
    }

    /// Lets all of a phrase land. Paths of one phrase mostly begin alike, so the entry that the first found is kept at hand.
    pub(super) fn land_all(&mut self, lands: &[(Target, Plan)], values: &Values, place: &Place<'_>) {
        let mut recent: Option<(&Segment, usize, usize)> = None;
        for (target, plan) in lands {
            let first = &target.0[0];
            if let Some((_, field, item)) = recent.filter(|(known, ..)| target.0.len() > 1 && *known == first)
                && let Grown::List(list) = &mut self.top.fields[field].2
                && let Some(Grown::Table(table)) = list.items.get_mut(item)
            {
                if land(table, &target.0[1..], plan, values, place)
                    && matches!(first.1, Pick::New | Pick::Statement(_))
                {
                    table.origin.end = table.origin.end.max(place.line.end);
                }
                continue;
            }
            recent = None;
            // Where it did not land the newest entry is another's.
            if self.land(target, plan, values, place)
                && target.0.len() > 1
                && first.1 != Pick::None
                && let Some(field) = self.top.fields.iter().position(|(key, ..)| *key == first.0)
                && let Grown::List(list) = &self.top.fields[field].2
            {
                recent = list.newest.as_ref().map(|(_, item)| (first, field, *item));
            }
        }
    }

    /// Lets something land. Nothing lands where a capture that is needed took nothing.
    pub(super) fn land(&mut self, target: &Target, plan: &Plan, values: &Values, place: &Place<'_>) -> bool {
        land(&mut self.top, &target.0, plan, values, place)
    }

    /// Adds to the rule of the outermost statement that a part of it was not understood; where that has none, a rule of which nothing
    /// is known.
    pub(super) fn leave_open(&mut self, place: &Place<'_>) {
        let target = Target(vec![("rules".into(), Pick::Statement(1)), ("also".into(), Pick::New)]);
        let why = Node { origin: place.line, value: Value::Text("a part of it was not understood".into()) };
        self.land(&target, &Plan::Fixed(why), &Values::default(), place);
    }

    /// The finished sheet. What is copied is put in; what is not there to be copied is told.
    pub(super) fn finish(self, notes: &mut Vec<Note>) -> Node {
        let whole = Grown::Table(self.top);
        let finished = if has_copies(&whole) { settle(&whole, &whole, notes, 0) } else { moved(whole) };
        let mut node = finished
            .unwrap_or_else(|| Node::table(Origin { export: trevlin_model::ExportId(0), start: 0, end: 0 }));
        if let Value::Table(entries) = &mut node.value {
            entries.retain(|entry| !entry.key.starts_with('$'));
        }
        node
    }
}

/// Lets something land below a table, and says whether it did.
fn land(from: &mut Table, target: &[Segment], plan: &Plan, values: &Values, place: &Place<'_>) -> bool {
    let Some(path) = resolve(target, values, place) else { return false };
    let Some(grown) = grow(plan, values, place) else { return false };
    let mut table = from;
    let last = path.len() - 1;
    for (at, (key, pick)) in path.into_iter().enumerate() {
        let found = match table.fields.iter().position(|(known, ..)| *known == key) {
            Some(found) => found,
            None => {
                let empty = match &pick {
                    Some(_) => Grown::List(List::default()),
                    None => Grown::Table(Table { fields: Vec::new(), origin: place.line }),
                };
                table.fields.push((key, place.line, empty));
                table.fields.len() - 1
            }
        };
        let slot = &mut table.fields[found].2;
        let Some(pick) = pick else {
            if at == last {
                *slot = grown;
                return true;
            }
            match slot {
                Grown::Table(inner) => {
                    table = inner;
                    continue;
                }
                // A value in the place of a table is told once the sheet is read.
                _ => return false,
            }
        };
        let Grown::List(list) = slot else { return false };
        list.origin.get_or_insert(place.line);
        if at == last {
            match grown {
                // What is said of an entry that is known by a key goes into it.
                Grown::Table(said) if !matches!(pick.0, Key::New(_)) => {
                    if let Some(entry) = list.entry(pick, place) {
                        entry.fields.extend(said.fields);
                    }
                }
                Grown::Leaf(Node { value: Value::List(all), .. }) => {
                    list.items.extend(all.into_iter().map(Grown::Leaf));
                }
                other => list.items.push(other),
            }
            return true;
        }
        match list.entry(pick, place) {
            Some(inner) => table = inner,
            None => return false,
        }
    }
    false
}

impl List {
    /// The entry for a key, made where there is none. It reaches over all lines that land in it.
    fn entry(
        &mut self,
        (key, field): (Key, Option<(Arc<str>, String)>),
        place: &Place<'_>,
    ) -> Option<&mut Table> {
        let known = match &self.newest {
            Some((newest, at)) if *newest == key => Some(*at),
            _ => self.index.get(&key).copied(),
        };
        let at = known.unwrap_or_else(|| {
            let start = match &key {
                Key::Statement(number) => {
                    place.levels.iter().find(|(one, _)| one == number).map_or(place.line, |(_, line)| *line)
                }
                _ => place.line,
            };
            let origin = Origin { end: place.line.end.max(start.end), ..start };
            let mut table = Table { fields: Vec::new(), origin };
            if let Some((name, value)) = field {
                table.fields.push((
                    name,
                    place.line,
                    Grown::Leaf(Node { origin: place.line, value: Value::Text(value) }),
                ));
            }
            self.items.push(Grown::Table(table));
            self.items.len() - 1
        });
        if known.is_none() && !matches!(key, Key::New(_)) {
            self.index.insert(key.clone(), at);
        }
        let extends = matches!(key, Key::New(_) | Key::Statement(_));
        self.newest = Some((key, at));
        match self.items.get_mut(at) {
            Some(Grown::Table(table)) => {
                if extends {
                    table.origin.end = table.origin.end.max(place.line.end);
                }
                Some(table)
            }
            _ => None,
        }
    }
}

type Resolved = Vec<(Arc<str>, Option<(Key, Option<(Arc<str>, String)>)>)>;

fn resolve(target: &[Segment], values: &Values, place: &Place<'_>) -> Option<Resolved> {
    let one = |(key, pick): &Segment| {
        let pick = match pick {
            Pick::None => None,
            Pick::New => Some((Key::New(place.number), None)),
            Pick::Statement(level) => Some((Key::Statement(place.levels.get(level - 1)?.0), None)),
            Pick::Field(field, value) => {
                let value = value.fill(values)?;
                Some((Key::Field(value.clone()), Some((Arc::clone(field), value))))
            }
            Pick::Called(name) => Some((Key::Called(name.fill(values)?), None)),
        };
        Some((Arc::clone(key), pick))
    };
    target.iter().map(one).collect()
}

fn grow(plan: &Plan, values: &Values, place: &Place<'_>) -> Option<Grown> {
    Some(match plan {
        Plan::Copy(target) => {
            let path = resolve(&target.0, values, place)?;
            Grown::Copy(
                path.into_iter().map(|(key, pick)| (key, pick.map(|one| one.0))).collect(),
                place.line,
            )
        }
        Plan::Table(plans) => {
            let fields = plans
                .iter()
                .filter_map(|(key, plan)| Some((Arc::clone(key), place.line, grow(plan, values, place)?)))
                .collect();
            Grown::Table(Table { fields, origin: place.line })
        }
        Plan::List(plans) => {
            let items = plans.iter().filter_map(|plan| grow(plan, values, place)).collect();
            Grown::List(List { items, origin: Some(place.line), ..List::default() })
        }
        Plan::Capture(number) => Grown::Leaf(values.get(*number)?.clone()),
        Plan::Text(template) => {
            Grown::Leaf(Node { origin: place.line, value: Value::Text(template.fill(values)?) })
        }
        Plan::Fixed(node) => {
            let mut node = node.clone();
            super::value::place(&mut node, place.line);
            Grown::Leaf(node)
        }
    })
}

fn has_copies(one: &Grown) -> bool {
    match one {
        Grown::Leaf(_) => false,
        Grown::Copy(..) => true,
        Grown::Table(table) => table.fields.iter().any(|(_, _, value)| has_copies(value)),
        Grown::List(list) => list.items.iter().any(has_copies),
    }
}

/// The finished sheet where nothing is copied: everything moves to its place.
fn moved(one: Grown) -> Option<Node> {
    match one {
        Grown::Leaf(node) => Some(node),
        Grown::Copy(..) => None,
        Grown::Table(table) => {
            let entry = |(key, key_origin, value): (Arc<str>, Origin, Grown)| {
                Some(Entry { key, key_origin, node: moved(value)? })
            };
            let entries = table.fields.into_iter().filter_map(entry).collect();
            Some(Node { origin: table.origin, value: Value::Table(entries) })
        }
        Grown::List(list) => {
            let items: Vec<Node> = list.items.into_iter().filter_map(moved).collect();
            let origin = list.origin.or_else(|| items.first().map(|one| one.origin))?;
            Some(Node { origin, value: Value::List(items) })
        }
    }
}

/// How often what is copied may hold copies itself.
const COPIES: usize = 8;

fn settle(one: &Grown, whole: &Grown, notes: &mut Vec<Note>, copies: usize) -> Option<Node> {
    match one {
        Grown::Leaf(node) => Some(node.clone()),
        Grown::Table(table) => {
            let entry = |(key, key_origin, value): &(Arc<str>, Origin, Grown)| {
                let node = settle(value, whole, notes, copies)?;
                Some(Entry { key: Arc::clone(key), key_origin: *key_origin, node })
            };
            let entries = table.fields.iter().filter_map(entry).collect();
            Some(Node { origin: table.origin, value: Value::Table(entries) })
        }
        Grown::List(list) => {
            let items: Vec<Node> =
                list.items.iter().filter_map(|item| settle(item, whole, notes, copies)).collect();
            let origin = list.origin.or_else(|| items.first().map(|one| one.origin))?;
            Some(Node { origin, value: Value::List(items) })
        }
        Grown::Copy(path, at) => {
            let found = follow(whole, path);
            let text = match found {
                _ if copies >= COPIES => "what is named here leads back to itself",
                Some(found) => return settle(found, whole, notes, copies + 1),
                None => "what is named here is not defined in this export",
            };
            notes.push(Note { origin: *at, text: text.into() });
            None
        }
    }
}

fn follow<'a>(whole: &'a Grown, path: &[(Arc<str>, Option<Key>)]) -> Option<&'a Grown> {
    let mut at = whole;
    for (key, pick) in path {
        let Grown::Table(table) = at else { return None };
        at = &table.fields.iter().find(|(known, ..)| known == key)?.2;
        if let Some(pick) = pick {
            let Grown::List(list) = at else { return None };
            at = list.items.get(*list.index.get(pick)?)?;
        }
    }
    Some(at)
}
