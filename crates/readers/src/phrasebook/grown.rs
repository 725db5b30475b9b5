//! A device sheet as it grows: tables, lists whose entries are found again, and values that are copied once everything is read.

use crate::sheet::node::{Node, Value};
use foldhash::fast::RandomState;
use smol_str::SmolStr;
#[expect(clippy::disallowed_types, reason = "see where it is used")]
use std::collections::HashMap;
use std::sync::Arc;
use trevlin_model::Origin;

/// How an entry of a list is found again.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) enum Key {
    /// The number of its statement, and of the repetition in it.
    New(u64, u64),
    Statement(u64),
    Field(SmolStr),
    Called(SmolStr),
}

/// A piece of the growing sheet.
#[derive(Debug)]
pub(super) enum Grown {
    Leaf(Node),
    Table(Table),
    List(List),
    Copy(Vec<(Arc<str>, Option<Key>)>, Origin),
    Join(Vec<Grown>, Origin),
}

#[derive(Debug)]
pub(super) struct Table {
    pub(super) fields: Vec<Field>,
    pub(super) origin: Origin,
}

/// A named piece of a table.
#[derive(Debug)]
pub(super) struct Field {
    pub(super) key: Arc<str>,
    pub(super) origin: Origin,
    /// Whether it was set as a whole, replacing earlier values, and not piece by piece.
    pub(super) whole: bool,
    pub(super) value: Grown,
}

impl Field {
    /// Sets it; fields of a table are added to those that it has.
    pub(super) fn set(&mut self, grown: Grown) {
        match (&mut self.value, grown) {
            (Grown::Table(known), Grown::Table(later)) => known.append(later),
            (value, grown) => (self.whole, *value) = (true, grown),
        }
    }
}

#[derive(Debug, Default)]
pub(super) struct List {
    pub(super) items: Vec<Grown>,
    /// Entries that are found again; few lists have any.
    pub(super) index: Option<Box<Index>>,
    pub(super) origin: Option<Origin>,
}

#[derive(Debug, Default)]
#[expect(clippy::disallowed_types, reason = "order is not significant: entries are listed")]
pub(super) struct Index(pub(super) HashMap<Key, usize, RandomState>);

/// The statement that lands: a number of its own, and those of the statements around it with their lines.
pub(super) struct Place<'a> {
    pub(super) number: u64,
    /// Number of the repetition in it.
    pub(super) round: u64,
    pub(super) line: Origin,
    pub(super) levels: &'a [(u64, Origin)],
}

/// The selected entry of a list, and the field that its key sets.
pub(super) type Picked = (Key, Option<(Arc<str>, SmolStr)>);
pub(super) type Resolved = Vec<(Arc<str>, Option<Picked>)>;

impl Table {
    /// Adds a text to every list of values.
    pub(super) fn leave_lists_open(&mut self, text: &str, line: Origin) {
        for field in &mut self.fields {
            if let Grown::List(list) = &mut field.value
                && !list.items.iter().any(|item| matches!(item, Grown::Table(_)))
            {
                list.push(Grown::Leaf(Node { origin: line, value: Value::Text(text.into()) }));
            }
        }
    }

    /// Adds a text to a list.
    pub(super) fn add(&mut self, key: &str, text: &str, place: &Place<'_>) {
        let text = Node { origin: place.line, value: Value::Text(text.into()) };
        if let Some(list) = self.list(key.into(), place) {
            list.push(Grown::Leaf(text));
        }
    }

    pub(super) fn field(
        &mut self,
        key: Arc<str>,
        place: &Place<'_>,
        empty: impl FnOnce() -> Grown,
    ) -> &mut Field {
        let found = self.fields.iter().position(|field| field.key == key).unwrap_or_else(|| {
            self.fields.push(Field { key, origin: place.line, whole: false, value: empty() });
            self.fields.len() - 1
        });
        &mut self.fields[found]
    }

    /// The list of this name; none where a value of another type is present, which is reported once the sheet is read.
    pub(super) fn list(&mut self, key: Arc<str>, place: &Place<'_>) -> Option<&mut List> {
        let field = self.field(key, place, || Grown::List(List::default()));
        let Grown::List(list) = &mut field.value else { return None };
        list.origin.get_or_insert(place.line);
        Some(list)
    }

    /// Puts a piece at the end of a path.
    pub(super) fn put(&mut self, path: Resolved, grown: Grown, place: &Place<'_>) {
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
                    Grown::Table(inner) => {
                        inner.stated_at(place.line);
                        table = inner;
                    }
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

    /// Evidence is the first statement, in place of a default according to documentation.
    fn stated_at(&mut self, line: Origin) {
        if self.origin.start == self.origin.end {
            self.origin = line;
        }
    }

    /// Adds later values.
    pub(super) fn append(&mut self, later: Self) {
        self.stated_at(later.origin);
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
    pub(super) fn find(&self, key: &Key) -> Option<usize> {
        self.index.as_ref()?.0.get(key).copied()
    }

    /// The entry for a key, made where there is none. It reaches over all lines that land in it.
    pub(super) fn entry(&mut self, (key, field): Picked, place: &Place<'_>) -> Option<&mut Table> {
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
    pub(super) fn push(&mut self, item: Grown) {
        if self.items.is_empty() {
            self.items.reserve_exact(1);
        }
        self.items.push(item);
    }

    pub(super) fn put(&mut self, pick: Picked, grown: Grown, place: &Place<'_>) {
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
    pub(super) fn append(&mut self, later: Self) {
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
