//! Where the values of phrases land in a device sheet.

use super::grown::{Field, Grown, Key, List, Picked, Place, Resolved, Table};
use super::open::{NOT_UNDERSTOOD, Part};
use super::settle::{has_copies, moved, settle};
use super::target::{Pick, Plan, Segment, Target, Values};
use crate::sheet::node::{Node, Value};
use std::sync::Arc;
use trevlin_model::{ExportId, Note, Origin};

/// The sheet that comes out.
#[derive(Debug)]
pub(super) struct Sheet {
    top: Table,
}

impl Sheet {
    pub(super) fn new(origin: Origin) -> Self {
        Self { top: Table { fields: Vec::new(), origin } }
    }

    /// Lets all of a phrase land. Nothing lands where a capture that is needed took nothing. Paths of one phrase mostly begin in the
    /// same entry, which is looked up once.
    /// `landed` receives the path of each that does.
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

    /// Leaves an entry of a rule base open, because a part of it was not understood: a rule keeps its name only, and a name stands for
    /// something unknown besides. Returns the place of the entry.
    pub(super) fn leave_open(&mut self, part: &Part, at: usize, line: Origin) -> Option<Origin> {
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
            Part::Aside(_) => entry.leave_lists_open(NOT_UNDERSTOOD, line),
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
