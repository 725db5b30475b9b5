//! A device sheet as it grows out of what phrases take.

use super::open::Part;
use super::target::{Pick, Plan, Segment, Target, Values};
use crate::sheet::node::{Entry, Node, Value};
use foldhash::fast::RandomState;
use rayon::prelude::*;
use smol_str::SmolStr;
#[expect(clippy::disallowed_types, reason = "see where it is used")]
use std::collections::HashMap;
use std::sync::Arc;
use trevlin_model::{ExportId, Note, Origin};

/// How an entry of a list is found again.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Key {
    /// The number of its statement, and of the repetition in it.
    New(u64, u64),
    Statement(u64),
    Field(SmolStr),
    Called(SmolStr),
}

/// A piece of the growing sheet.
#[derive(Debug)]
enum Grown {
    Leaf(Node),
    Table(Table),
    List(List),
    Copy(Vec<(Arc<str>, Option<Key>)>, Origin),
    Join(Vec<Grown>, Origin),
}

#[derive(Debug)]
struct Table {
    fields: Vec<Field>,
    origin: Origin,
}

/// A named piece of a table.
#[derive(Debug)]
struct Field {
    key: Arc<str>,
    origin: Origin,
    /// Whether it was set as a whole, replacing earlier values, and not piece by piece.
    whole: bool,
    value: Grown,
}

impl Field {
    /// Sets it; fields of a table are added to those that it has.
    fn set(&mut self, grown: Grown) {
        match (&mut self.value, grown) {
            (Grown::Table(known), Grown::Table(later)) => known.append(later),
            (value, grown) => (self.whole, *value) = (true, grown),
        }
    }
}

#[derive(Debug, Default)]
struct List {
    items: Vec<Grown>,
    /// Entries that are found again; few lists have any.
    index: Option<Box<Index>>,
    origin: Option<Origin>,
}

#[derive(Debug, Default)]
#[expect(clippy::disallowed_types, reason = "order is not significant: entries are listed")]
struct Index(HashMap<Key, usize, RandomState>);

/// The sheet that comes out.
#[derive(Debug)]
pub(super) struct Sheet {
    top: Table,
}

/// The statement that lands: a number of its own, and those of the statements around it with their lines.
pub(super) struct Place<'a> {
    pub(super) number: u64,
    /// Number of the repetition in it.
    pub(super) round: u64,
    pub(super) line: Origin,
    pub(super) levels: &'a [(u64, Origin)],
}

impl Sheet {
    pub(super) fn new(origin: Origin) -> Self {
        Self { top: Table { fields: Vec::new(), origin } }
    }

    /// Lets all of a phrase land. Nothing lands where a capture that is needed took nothing. Paths of one phrase mostly begin in the
    /// same entry, which is looked up once.
    /// `landed` is told the path of each that does.
    pub(super) fn land<'a>(
        &mut self,
        lands: &'a [(Target, Plan)],
        values: &Values,
        place: &Place<'_>,
        mut landed: impl FnMut(&'a Target),
    ) {
        for alike in lands.chunk_by(|(a, _), (b, _)| a.0.first() == b.0.first()) {
            let in_entry = |(target, _): &(Target, Plan)| {
                target.0.len() > 1 && target.0.first().is_some_and(|(_, pick)| *pick != Pick::None)
            };
            if !alike.iter().all(in_entry) {
                for (target, plan) in alike {
                    if land(&mut self.top, &target.0, plan, values, place) {
                        landed(target);
                    }
                }
                continue;
            }
            let mut entry = None;
            for (target, plan) in alike {
                let [first, rest @ ..] = target.0.as_slice() else { continue };
                let (Some(path), Some(grown)) = (resolve(rest, values, place), grow(plan, values, place))
                else {
                    continue;
                };
                if entry.is_none() {
                    entry = resolve_one(first, values, place)
                        .and_then(|(key, pick)| self.top.list(key, place)?.entry(pick?, place));
                }
                // Where there is none the others do not find it either.
                let Some(table) = &mut entry else { break };
                table.put(path, grown, place);
                landed(target);
            }
        }
    }

    /// Number of the entry that something landed in.
    pub(super) fn entry_of(&self, first: &Segment, values: &Values, place: &Place<'_>) -> Option<usize> {
        let (key, pick) = resolve_one(first, values, place)?;
        let list = self.list(&key)?;
        match pick?.0 {
            Key::New(..) => list.items.len().checked_sub(1),
            key => list.find(&key),
        }
    }

    fn list(&self, key: &str) -> Option<&List> {
        match &self.top.fields.iter().find(|field| &*field.key == key)?.value {
            Grown::List(list) => Some(list),
            _ => None,
        }
    }

    /// Leaves an entry of a rule base open, because a part of it was not understood: of a rule its name is known, and of a name not all of
    /// what it stands for. Returns the place of the entry.
    pub(super) fn leave_open(&mut self, part: Part, at: usize, line: Origin) -> Option<Origin> {
        let section = part.section()?;
        let field = self.top.fields.iter_mut().find(|field| &*field.key == section)?;
        let Grown::List(list) = &mut field.value else { return None };
        let Grown::Table(entry) = list.items.get_mut(at)? else { return None };
        let place = Place { number: 0, round: 0, line, levels: &[] };
        match part {
            // The rest of a rule may permit more than the whole of it, or less.
            Part::Rule => {
                entry.fields.retain(|field| matches!(&*field.key, "name" | "note" | "list" | "off"))
            }
            Part::Addresses => entry.add("addresses", NOT_UNDERSTOOD, &place),
            Part::Services => entry.add("services", NOT_UNDERSTOOD, &place),
            Part::List => {
                let partly = Node { origin: line, value: Value::Truth(true) };
                entry.field("partly".into(), &place, || Grown::Leaf(partly));
            }
            Part::Whole => {}
        }
        Some(entry.origin)
    }

    /// Adds a rule of which nothing is known; returns its number.
    pub(super) fn unread(&mut self, line: Origin) -> Option<usize> {
        let place = Place { number: 0, round: 0, line, levels: &[] };
        let list = self.top.list("rules".into(), &place)?;
        list.push(Grown::Table(Table { fields: Vec::new(), origin: line }));
        Some(list.items.len() - 1)
    }

    /// Rules of which nothing is known belong to the list that the other rules of their block belong to.
    pub(super) fn in_the_list_of(&mut self, unread: &[usize], block: Origin) {
        let Some(Grown::List(rules)) =
            self.top.fields.iter_mut().find(|field| &*field.key == "rules").map(|field| &mut field.value)
        else {
            return;
        };
        let tables = rules.items.iter().rev().map_while(|rule| match rule {
            Grown::Table(rule) if rule.origin.start >= block.start => Some(rule),
            _ => None,
        });
        let list = |rule: &Table| {
            let list = rule.fields.iter().find(|field| &*field.key == "list")?;
            let Grown::Leaf(node) = &list.value else { return None };
            Some((Arc::clone(&list.key), node.clone()))
        };
        let named = tables.into_iter().find_map(list);
        let Some((key, node)) = named else { return };
        for at in unread {
            if let Some(Grown::Table(rule)) = rules.items.get_mut(*at) {
                let value = Grown::Leaf(Node { origin: rule.origin, ..node.clone() });
                rule.fields.push(Field { key: Arc::clone(&key), origin: rule.origin, whole: true, value });
            }
        }
    }

    /// Adds a sheet made from later lines of the export: the result is the same as from a single pass.
    pub(super) fn append(&mut self, later: Self) {
        self.top.append(later.top);
    }

    /// The finished sheet. Copied values are inserted; missing ones are reported.
    pub(super) fn finish(self, notes: &mut Vec<Note>) -> Node {
        let whole = Grown::Table(self.top);
        let finished = if has_copies(&whole) { settle(&whole, &whole, notes, 0) } else { moved(whole) };
        let mut node =
            finished.unwrap_or_else(|| Node::table(Origin { export: ExportId(0), start: 0, end: 0 }));
        if let Value::Table(entries) = &mut node.value {
            entries.retain(|entry| !entry.key.starts_with('$'));
        }
        node
    }
}

/// What stands for a part of a name that was not understood.
const NOT_UNDERSTOOD: &str = "a part of it was not understood";

impl Table {
    /// Adds a text to a list.
    fn add(&mut self, key: &str, text: &str, place: &Place<'_>) {
        let text = Node { origin: place.line, value: Value::Text(text.into()) };
        if let Some(list) = self.list(key.into(), place) {
            list.push(Grown::Leaf(text));
        }
    }

    fn field(&mut self, key: Arc<str>, place: &Place<'_>, empty: impl FnOnce() -> Grown) -> &mut Field {
        let found = self.fields.iter().position(|field| field.key == key).unwrap_or_else(|| {
            self.fields.push(Field { key, origin: place.line, whole: false, value: empty() });
            self.fields.len() - 1
        });
        &mut self.fields[found]
    }

    /// The list of this name; none where a value of another type is present, which is reported once the sheet is read.
    fn list(&mut self, key: Arc<str>, place: &Place<'_>) -> Option<&mut List> {
        let field = self.field(key, place, || Grown::List(List::default()));
        let Grown::List(list) = &mut field.value else { return None };
        list.origin.get_or_insert(place.line);
        Some(list)
    }

    /// Puts a piece at the end of a path.
    fn put(&mut self, path: Resolved, grown: Grown, place: &Place<'_>) {
        let mut table = self;
        let last = path.len() - 1;
        for (at, (key, pick)) in path.into_iter().enumerate() {
            let Some(pick) = pick else {
                let empty = || Grown::Table(Table { fields: Vec::new(), origin: place.line });
                let field = table.field(key, place, empty);
                if at == last {
                    field.set(grown);
                    return;
                }
                match &mut field.value {
                    Grown::Table(inner) => table = inner,
                    _ => return,
                }
                continue;
            };
            let Some(list) = table.list(key, place) else { return };
            if at == last {
                list.put(pick, grown, place);
                return;
            }
            match list.entry(pick, place) {
                Some(inner) => table = inner,
                None => return,
            }
        }
    }

    /// Adds later values.
    fn append(&mut self, later: Self) {
        for field in later.fields {
            let Some(known) = self.fields.iter_mut().find(|known| known.key == field.key) else {
                self.fields.push(field);
                continue;
            };
            match (&mut known.value, field.value) {
                (Grown::Table(table), Grown::Table(later)) => table.append(later),
                (value, later) if field.whole => (known.whole, *value) = (true, later),
                (Grown::List(list), Grown::List(later)) => list.append(later),
                // A value in place of a table is reported once the sheet is read.
                _ => {}
            }
        }
    }
}

impl List {
    fn find(&self, key: &Key) -> Option<usize> {
        self.index.as_ref()?.0.get(key).copied()
    }

    /// The entry for a key, made where there is none. It reaches over all lines that land in it.
    fn entry(&mut self, (key, field): Picked, place: &Place<'_>) -> Option<&mut Table> {
        let extends = matches!(key, Key::New(..) | Key::Statement(_));
        let known = self.find(&key);
        let at = known.unwrap_or_else(|| {
            let start = match &key {
                Key::Statement(number) => {
                    place.levels.iter().find(|(one, _)| one == number).map_or(place.line, |(_, line)| *line)
                }
                _ => place.line,
            };
            let origin = Origin { end: place.line.end.max(start.end), ..start };
            let named = |(key, value)| {
                let value = Grown::Leaf(Node { origin: place.line, value: Value::Text(value) });
                Field { key, origin: place.line, whole: false, value }
            };
            let fields = field.map(named).into_iter().collect();
            self.push(Grown::Table(Table { fields, origin }));
            self.items.len() - 1
        });
        if known.is_none() {
            self.index.get_or_insert_default().0.insert(key, at);
        }
        let Grown::Table(table) = self.items.get_mut(at)? else { return None };
        if extends {
            table.origin.end = table.origin.end.max(place.line.end);
        }
        Some(table)
    }

    /// Most lists have one entry.
    fn push(&mut self, item: Grown) {
        if self.items.is_empty() {
            self.items.reserve_exact(1);
        }
        self.items.push(item);
    }

    fn put(&mut self, pick: Picked, grown: Grown, place: &Place<'_>) {
        match grown {
            // Values of an entry with a known key are added to it.
            Grown::Table(said) if !matches!(pick.0, Key::New(..)) => {
                if let Some(entry) = self.entry(pick, place) {
                    entry.append(said);
                }
            }
            Grown::Leaf(Node { value: Value::List(all), .. }) => {
                self.items.extend(all.into_iter().map(Grown::Leaf));
            }
            Grown::List(all) => self.items.extend(all.items),
            other => self.push(other),
        }
    }

    /// Adds later values.
    fn append(&mut self, later: Self) {
        self.origin = self.origin.or(later.origin);
        self.items.reserve(later.items.len());
        let mut keys: Vec<Option<Key>> = Vec::new();
        keys.resize_with(later.items.len(), || None);
        for (key, at) in later.index.into_iter().flat_map(|index| index.0) {
            keys[at] = Some(key);
        }
        for (item, key) in later.items.into_iter().zip(keys) {
            // No two pieces of an export have a statement in common.
            let shared = key.as_ref().filter(|key| matches!(key, Key::Field(_) | Key::Called(_)));
            let known = shared.and_then(|key| self.find(key));
            match (known.and_then(|at| self.items.get_mut(at)), item) {
                (Some(Grown::Table(table)), Grown::Table(later)) => table.append(later),
                (Some(_), _) => {}
                (None, item) => {
                    if let Some(key) = key {
                        self.index.get_or_insert_default().0.insert(key, self.items.len());
                    }
                    self.items.push(item);
                }
            }
        }
    }
}

/// The selected entry of a list, and the field that its key sets.
type Picked = (Key, Option<(Arc<str>, SmolStr)>);
type Resolved = Vec<(Arc<str>, Option<Picked>)>;

/// Lets something land below a table; returns whether it did.
fn land(table: &mut Table, target: &[Segment], plan: &Plan, values: &Values, place: &Place<'_>) -> bool {
    match (resolve(target, values, place), grow(plan, values, place)) {
        (Some(path), Some(grown)) => {
            table.put(path, grown, place);
            true
        }
        _ => false,
    }
}

fn resolve(target: &[Segment], values: &Values, place: &Place<'_>) -> Option<Resolved> {
    target.iter().map(|one| resolve_one(one, values, place)).collect()
}

fn resolve_one(
    (key, pick): &Segment,
    values: &Values,
    place: &Place<'_>,
) -> Option<(Arc<str>, Option<Picked>)> {
    let pick = match pick {
        Pick::None => None,
        Pick::New => Some((Key::New(place.number, place.round), None)),
        Pick::Statement(level) => Some((Key::Statement(place.levels.get(level - 1)?.0), None)),
        Pick::Field(field, value) => {
            let value = value.fill(values)?;
            Some((Key::Field(value.clone()), Some((Arc::clone(field), value))))
        }
        Pick::Called(name) => Some((Key::Called(name.fill(values)?), None)),
    };
    Some((Arc::clone(key), pick))
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
        // A table with a needed value missing is not there.
        Plan::Table(plans) => {
            let mut fields = Vec::with_capacity(plans.len());
            for (key, plan) in plans {
                match grow(plan, values, place) {
                    Some(value) => {
                        fields.push(Field { key: Arc::clone(key), origin: place.line, whole: true, value });
                    }
                    None if plan.is_needed() => return None,
                    None => {}
                }
            }
            Grown::Table(Table { fields, origin: place.line })
        }
        Plan::List(plans) => {
            let items: Vec<Grown> = plans.iter().filter_map(|plan| grow(plan, values, place)).collect();
            if items.is_empty() && !plans.is_empty() {
                return None;
            }
            Grown::List(List { items, origin: Some(place.line), ..List::default() })
        }
        Plan::Join(plans) => {
            let parts = plans.iter().map(|plan| grow(plan, values, place)).collect::<Option<_>>()?;
            Grown::Join(parts, place.line)
        }
        Plan::Capture(number) | Plan::Maybe(number) => Grown::Leaf(values.get(*number)?.clone()),
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
        Grown::Copy(..) | Grown::Join(..) => true,
        Grown::Table(table) => table.fields.iter().any(|field| has_copies(&field.value)),
        Grown::List(list) => list.items.iter().any(has_copies),
    }
}

/// How many entries are worth a thread.
const PARALLEL: usize = 1024;

/// The finished sheet where nothing is copied: everything moves to its place.
fn moved(one: Grown) -> Option<Node> {
    match one {
        Grown::Leaf(node) => Some(node),
        Grown::Copy(..) | Grown::Join(..) => None,
        Grown::Table(table) => {
            let entry = |field: Field| {
                Some(Entry { key: field.key, key_origin: field.origin, node: moved(field.value)? })
            };
            let entries = table.fields.into_iter().filter_map(entry).collect();
            Some(Node { origin: table.origin, value: Value::Table(entries) })
        }
        Grown::List(list) => {
            // Rules may be hundreds of thousands; most lists have one entry.
            let items: Vec<Node> = if list.items.len() > PARALLEL {
                list.items.into_par_iter().with_min_len(PARALLEL).filter_map(moved).collect()
            } else {
                list.items.into_iter().filter_map(moved).collect()
            };
            let origin = list.origin.or_else(|| items.first().map(|one| one.origin))?;
            Some(Node { origin, value: Value::List(items) })
        }
    }
}

/// Maximum nesting of copies.
const COPIES: usize = 8;

fn settle(one: &Grown, whole: &Grown, notes: &mut Vec<Note>, copies: usize) -> Option<Node> {
    match one {
        Grown::Leaf(node) => Some(node.clone()),
        Grown::Table(table) => {
            let entry = |field: &Field| {
                let node = settle(&field.value, whole, notes, copies)?;
                Some(Entry { key: Arc::clone(&field.key), key_origin: field.origin, node })
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
        Grown::Join(parts, at) => {
            let mut text = String::new();
            for part in parts {
                if let Some(node) = settle(part, whole, notes, copies) {
                    super::target::words(&node, &mut text);
                }
            }
            Some(Node { origin: *at, value: Value::Text(text.trim().into()) })
        }
        Grown::Copy(path, at) => {
            let found = follow(whole, path);
            let text = match found {
                _ if copies >= COPIES => "this name refers to itself",
                Some(found) => return settle(found, whole, notes, copies + 1),
                None => "this name is not defined in this export",
            };
            notes.push(Note { origin: *at, text: text.into() });
            // It stands for something that is not known, and never for nothing.
            let name = path.iter().rev().find_map(|(_, pick)| match pick {
                Some(Key::Field(name) | Key::Called(name)) => Some(name.clone()),
                _ => None,
            });
            let text = name.unwrap_or_else(|| "a name that is not defined".into());
            Some(Node { origin: *at, value: Value::Text(text) })
        }
    }
}

fn follow<'a>(whole: &'a Grown, path: &[(Arc<str>, Option<Key>)]) -> Option<&'a Grown> {
    let mut at = whole;
    for (key, pick) in path {
        let Grown::Table(table) = at else { return None };
        at = &table.fields.iter().find(|field| field.key == *key)?.value;
        if let Some(pick) = pick {
            let Grown::List(list) = at else { return None };
            at = list.items.get(list.find(pick)?)?;
        }
    }
    Some(at)
}
