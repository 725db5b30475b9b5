//! A phrasebook as written, with its errors.

use super::columns::Table;
use super::level::{Level, apart, level};
use super::open::{Block, asides, blocks};
use super::pattern::Group;
use super::rounds::{Run, runs};
use super::shape::Shape;
use super::sink::DEPTH;
use super::target::{Plan, Target};
use super::value::{Captures, Kind, Map};
pub(super) use crate::phrasebook::targets::Targets;
use crate::sheet::node::{self, Entry, Node, Value};
use crate::sheet::take::nearest;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use trevlin_model::{Export, Note, Origin, find_paths};

/// Declaration of a phrasebook.
pub const BOOK: &str = "trevlin-phrasebook/1";

/// Teaches an appliance's export.
#[derive(Debug, Clone)]
pub struct Phrasebook {
    /// Name of the export format, as outputs show it.
    pub name: String,
    /// The phrasebook's path.
    pub path: String,
    pub(super) shape: Shape,
    pub(super) comments: Vec<String>,
    pub(super) negation: Vec<String>,
    pub(super) tables: Vec<Table>,
    pub(super) telling: Vec<Level>,
    file: Option<String>,
    pub(super) passes: Vec<Pass>,
    pub(super) maps: Vec<Map>,
    pub(super) always: Vec<(Target, Plan)>,
    /// Patterns of levels, each once.
    pub(super) levels: Vec<Level>,
    pub(super) phrases: Vec<Phrase>,
    /// Statements that phrases depend on.
    pub(super) conditions: Vec<Level>,
}

/// A statement without relevance.
#[derive(Debug, Clone)]
pub(super) struct Pass {
    /// Its levels, outermost first.
    pub(super) levels: Vec<Level>,
    /// Whether it may be nested in any statement.
    pub(super) anywhere: bool,
}

/// A phrase.
#[derive(Debug, Clone)]
pub(super) struct Phrase {
    /// As written.
    pub(super) says: Arc<str>,
    /// Its line in the phrasebook.
    pub(super) line: u32,
    /// Whether it may be nested in any statement.
    pub(super) anywhere: bool,
    /// Statements beside it, or beside those around it: each by its number, and whether it must be there or must not.
    pub(super) beside: Vec<(usize, bool)>,
    /// Numbers of the levels' patterns, outermost first, each with the number of the phrase's first capture of that level.
    pub(super) levels: Vec<(usize, usize)>,
    pub(super) kinds: Captures,
    pub(super) lands: Vec<(Target, Plan)>,
    pub(super) denied: Vec<(Target, Plan)>,
    /// The parts of a rule base among these, and where the statement is denied.
    pub(super) blocks: [Vec<Block>; 2],
    /// What of these lands together, once for each repetition.
    pub(super) runs: [Vec<Run>; 2],
    /// For each level, the number of its first repeated group.
    pub(super) groups: Vec<usize>,
}

impl Phrase {
    /// Parts of a rule base that something lands in, each with its path.
    pub(super) fn blocks(&self) -> impl Iterator<Item = (&Block, &Target)> {
        let lands = [&self.lands, &self.denied];
        self.blocks
            .iter()
            .zip(lands)
            .flat_map(|(blocks, lands)| blocks.iter().map(move |one| (one, &lands[one.target].0)))
    }
}

const KEYS: [&str; 12] = [
    "phrasebook",
    "name",
    "about",
    "shape",
    "comments",
    "negation",
    "recognise",
    "passes",
    "values",
    "always",
    "table",
    "phrase",
];

impl Phrasebook {
    /// Reads a phrasebook. Errors are noted at their lines; the rest can be used.
    #[must_use]
    pub fn read(export: &Export) -> (Self, Vec<Note>) {
        let (top, notes) = node::of_toml(export).told("phrasebook");
        let mut reader = Reader { known: BTreeMap::new(), export, notes, targets: Vec::new() };
        let book = reader.book(&top);
        let mut notes = reader.notes;
        notes.extend(super::check::targets(&reader.targets));
        notes.sort_by_key(|note| note.origin);
        (book, notes)
    }

    /// Whether a file is a phrasebook.
    #[must_use]
    pub fn is_one(export: &Export) -> bool {
        let declares = |text: &str| {
            let rest = text.trim_start().strip_prefix("phrasebook");
            rest.is_some_and(|rest| {
                rest.trim_start().strip_prefix('=').is_some_and(|rest| rest.contains("\"trevlin-phrasebook/"))
            })
        };
        export.lines().take(crate::reader::TELLING_LINES).any(|line| declares(line.text))
    }

    /// Whether an export's name is one of those in the phrasebook; `None` where it names none.
    pub(super) fn fits_name(&self, export: &Export) -> Option<bool> {
        let pattern = self.file.as_ref()?;
        Some(!find_paths(pattern, export.path(), &[export.path()]).is_empty())
    }

    /// Whether the phrasebook states any exports it applies to.
    pub(super) fn recognises_something(&self) -> bool {
        !self.telling.is_empty() || self.file.is_some()
    }
}

struct Reader<'a> {
    /// Patterns of levels by their text: many phrases share the outer ones.
    known: BTreeMap<String, usize>,
    export: &'a Export,
    notes: Vec<Note>,
    targets: Targets,
}

impl Reader<'_> {
    fn note(&mut self, origin: Origin, text: impl Into<String>) {
        self.notes.push(Note { origin, text: text.into() });
    }

    fn book(&mut self, top: &Node) -> Phrasebook {
        let start = self.export.origin(0..0);
        for entry in top.entries() {
            if !KEYS.contains(&&*entry.key) {
                let text =
                    format!("`{}` is not a key of a phrasebook; {}", entry.key, nearest(&entry.key, &KEYS));
                self.note(entry.key_origin, text);
            }
        }
        match top.get("phrasebook").map(|node| (node.text().unwrap_or_default(), node.origin)) {
            None => self.note(start, format!("`phrasebook = \"{BOOK}\"` is required to identify the file")),
            Some((form, at)) if form != BOOK => {
                self.note(at, format!("this version supports phrasebooks of the form `{BOOK}`"));
            }
            Some(_) => {}
        }
        let name = self.text(top, "name").unwrap_or_else(|| "an appliance".into());
        let shape = match self.text(top, "shape").map(|text| Shape::parse(&text)) {
            Some(Ok(shape)) => shape,
            Some(Err(why)) => {
                self.note(top.get("shape").map_or(start, |node| node.origin), why);
                Shape::Lines
            }
            None => Shape::Lines,
        };
        let mut maps = Vec::new();
        for entry in top.get("values").map_or(&[][..], Node::entries) {
            let words =
                entry.node.entries().iter().map(|word| (word.key.to_string(), word.node.clone())).collect();
            if !matches!(entry.node.value, Value::Table(_)) {
                self.note(entry.node.origin, "expected a table of the appliance's words and their meaning");
            }
            maps.push(Map { name: entry.key.to_string(), words });
        }
        let numbers: BTreeMap<String, usize> =
            maps.iter().enumerate().map(|(number, map)| (map.name.clone(), number)).collect();
        let mut book = Phrasebook {
            name,
            path: self.export.path().to_owned(),
            shape,
            comments: self.texts(top, "comments"),
            negation: self.texts(top, "negation"),
            tables: Vec::new(),
            telling: Vec::new(),
            file: None,
            passes: Vec::new(),
            maps,
            always: Vec::new(),
            levels: Vec::new(),
            phrases: Vec::new(),
            conditions: Vec::new(),
        };
        for node in top.get("table").map_or(&[][..], Node::each) {
            book.tables.extend(self.table(node, &numbers));
        }
        if let Some(recognise) = top.get("recognise") {
            self.only(recognise, &["lines", "file"]);
            book.file = self.text_of(recognise, "file");
            book.telling = self.patterns(recognise.get("lines"), &numbers);
        }
        if !book.recognises_something() {
            self.note(
                start,
                "`[recognise]` is required: `lines` that every such export has, or a `file` name",
            );
        }
        for one in top.get("passes").map_or(&[][..], Node::each) {
            let (anywhere, parts) = apart(one.text().unwrap_or_default());
            match parts.into_iter().map(|part| level(part, &numbers)).collect() {
                Ok(levels) => book.passes.push(Pass { levels, anywhere }),
                Err(why) => self.note(one.origin, why),
            }
        }
        if let Some(always) = top.get("always") {
            book.always = self.landings(always, &Vec::new(), 0);
        }
        for node in top.get("phrase").map_or(&[][..], Node::each) {
            self.phrase(node, &numbers, &mut book);
        }
        let lands = book.phrases.iter().flat_map(|phrase| phrase.lands.iter().chain(&phrase.denied));
        let aside = asides(lands.chain(&book.always));
        for phrase in &mut book.phrases {
            let of = |lands| blocks(lands, &phrase.levels, &aside);
            phrase.blocks = [of(&phrase.lands), of(&phrase.denied)];
        }
        if book.phrases.is_empty() {
            self.note(start, "there is no `[[phrase]]`");
        }
        self.unused_maps(top, &book);
        book
    }

    /// A table among the lines of the export.
    fn table(&mut self, node: &Node, maps: &BTreeMap<String, usize>) -> Option<Table> {
        self.only(node, &["name", "begins", "ends", "separator", "columns"]);
        let name = self.text_of(node, "name");
        let begins = self.patterns(node.get("begins"), maps).into_iter().next();
        let (Some(name), Some(begins)) = (name, begins) else {
            let text = "`name` and `begins` are required: the word for the table in phrases, and its line of headings";
            self.note(node.origin, text);
            return None;
        };
        let separator = self.text_of(node, "separator").and_then(|text| text.chars().next());
        let ends = self.patterns(node.get("ends"), maps).into_iter().next();
        Some(Table { name, begins, ends, separator, columns: self.texts(node, "columns") })
    }

    fn unused_maps(&mut self, top: &Node, book: &Phrasebook) {
        let kinds = book.phrases.iter().flat_map(|phrase| &phrase.kinds).map(|(_, kind)| kind);
        let used: BTreeSet<usize> = kinds
            .filter_map(|kind| if let Kind::Mapped(number) = kind { Some(*number) } else { None })
            .collect();
        let maps = top.get("values").map_or(&[][..], Node::entries);
        for (number, entry) in maps.iter().enumerate().filter(|(number, _)| !used.contains(number)) {
            let _ = number;
            self.note(entry.key_origin, format!("no phrase uses the map `{}`", entry.key));
        }
    }

    fn only(&mut self, node: &Node, known: &[&str]) {
        for entry in node.entries().iter().filter(|entry| !known.contains(&&*entry.key)) {
            let text = format!("`{}` is not a key at this place; {}", entry.key, nearest(&entry.key, known));
            self.note(entry.key_origin, text);
        }
    }

    fn text(&mut self, top: &Node, key: &str) -> Option<String> {
        if top.get(key).is_none() {
            self.note(self.export.origin(0..0), format!("`{key}` is required"));
        }
        self.text_of(top, key)
    }

    fn text_of(&mut self, node: &Node, key: &str) -> Option<String> {
        let node = node.get(key)?;
        if node.text().is_none() {
            self.note(node.origin, format!("this is {}; expected a text", node.kind()));
        }
        node.text().map(str::to_owned)
    }

    fn texts(&mut self, top: &Node, key: &str) -> Vec<String> {
        let mut found = Vec::new();
        for node in top.get(key).map_or(&[][..], Node::each) {
            match node.text() {
                Some(text) if !text.is_empty() => found.push(text.to_owned()),
                _ => self.note(node.origin, format!("this is {}; expected a text", node.kind())),
            }
        }
        found
    }

    fn patterns(&mut self, node: Option<&Node>, maps: &BTreeMap<String, usize>) -> Vec<Level> {
        let mut found = Vec::new();
        for one in node.map_or(&[][..], Node::each) {
            match level(one.text().unwrap_or_default(), maps) {
                Ok(level) => found.push(level),
                Err(why) => self.note(one.origin, why),
            }
        }
        found
    }

    fn phrase(&mut self, node: &Node, maps: &BTreeMap<String, usize>, book: &mut Phrasebook) {
        self.only(node, &["says", "where", "unless", "lands", "denied"]);
        let Some(says) = node.get("says").and_then(|says| Some((says.text()?, says.origin))) else {
            self.note(node.origin, "`says` is required: the pattern of the statement");
            return;
        };
        let (text, at) = says;
        let (anywhere, parts) = apart(text);
        if parts.is_empty() || parts.len() > DEPTH {
            self.note(at, format!("a phrase has from 1 to {DEPTH} levels, with `>` between them"));
            return;
        }
        let depth = parts.len();
        let (mut kinds, mut numbers): (Captures, Vec<(usize, usize)>) = (Vec::new(), Vec::new());
        for part in parts {
            let level = match level(part, maps) {
                Ok(level) => level,
                Err(why) => {
                    let split =
                        depth > 1 && part.matches(['(', '[']).count() > part.matches([')', ']']).count();
                    let hint = "; `>` cannot stand within brackets: write a phrase for each nested statement";
                    self.note(at, if split { why + hint } else { why });
                    return;
                }
            };
            if let Some((name, _)) =
                level.captures.iter().find(|(name, _)| kinds.iter().any(|(known, _)| known == name))
            {
                self.note(at, format!("`{name}` is captured at two levels; rename one of them"));
                return;
            }
            let first = kinds.len();
            kinds.extend(level.captures.iter().cloned());
            let known = *self.known.entry(part.to_owned()).or_insert_with(|| {
                book.levels.push(level);
                book.levels.len() - 1
            });
            numbers.push((known, first));
        }
        let mut lands =
            node.get("lands").map(|lands| self.landings(lands, &kinds, depth)).unwrap_or_default();
        let mut denied =
            node.get("denied").map(|denied| self.landings(denied, &kinds, depth)).unwrap_or_default();
        let mut used = Vec::new();
        for (target, plan) in lands.iter().chain(&denied) {
            target.used(&mut used);
            plan.used(&mut used);
        }
        for (number, (name, _)) in kinds.iter().enumerate() {
            // A name that begins so says that it is not wanted.
            if !used.contains(&number) && !name.starts_with('_') {
                self.note(
                    at,
                    format!("`{{{name}}}` is captured and not used; name it `_{name}` if that is intended"),
                );
            }
        }
        let beside = self.beside(node, maps, book);
        if !beside.is_empty() && numbers.len() < 2 {
            self.note(at, "`where` and `unless` state what is beside a statement in the block around it; this phrase has no block");
        }
        let line = self.export.line_of(at.start);
        let (groups, all) = groups(&numbers, &book.levels);
        let runs = [runs(&mut lands, &all), runs(&mut denied, &all)];
        book.phrases.push(Phrase {
            blocks: [Vec::new(), Vec::new()],
            says: text.into(),
            line,
            anywhere,
            beside,
            levels: numbers,
            kinds,
            lands,
            denied,
            runs,
            groups,
        });
    }

    /// Statements that must be beside the one of a phrase, or must not.
    fn beside(
        &mut self,
        node: &Node,
        maps: &BTreeMap<String, usize>,
        book: &mut Phrasebook,
    ) -> Vec<(usize, bool)> {
        let mut found = Vec::new();
        for (key, wanted) in [("where", true), ("unless", false)] {
            for one in node.get(key).map_or(&[][..], Node::each) {
                let text = one.text().unwrap_or_default();
                match level(text, maps) {
                    Ok(level) => {
                        let same = |known: &Level| known.text == level.text;
                        let known = book.conditions.iter().position(same).unwrap_or_else(|| {
                            book.conditions.push(level);
                            book.conditions.len() - 1
                        });
                        found.push((known, wanted));
                    }
                    Err(why) => self.note(one.origin, why),
                }
            }
        }
        found
    }

    fn landings(&mut self, node: &Node, captures: &Captures, levels: usize) -> Vec<(Target, Plan)> {
        if !matches!(node.value, Value::Table(_)) {
            self.note(node.origin, "expected a table of sheet paths and their values");
        }
        let mut found = Vec::new();
        for entry in node.entries() {
            self.landing(entry, captures, levels, &mut found);
        }
        found
    }

    fn landing(&mut self, entry: &Entry, captures: &Captures, levels: usize, into: &mut Vec<(Target, Plan)>) {
        let target = match Target::parse(&entry.key, captures, levels) {
            Ok(target) => target,
            Err(why) => return self.note(entry.key_origin, why),
        };
        match Plan::of(&entry.node, captures, levels) {
            Ok(plan) => {
                let shape = target.shape().into_iter().map(|(key, list)| (key.to_owned(), list)).collect();
                let fields = target.fields().into_iter().map(|(at, field)| (at, field.to_owned())).collect();
                self.targets.push((entry.key_origin, shape, fields));
                into.push((target, plan));
            }
            Err((at, why)) => self.note(at, why),
        }
    }
}

/// The repeated groups of a phrase's levels, numbered over all of them, and the number of each level's first.
fn groups(levels: &[(usize, usize)], patterns: &[Level]) -> (Vec<usize>, Vec<Group>) {
    let (mut starts, mut all) = (Vec::new(), Vec::new());
    for (level, first) in levels {
        let start = all.len();
        starts.push(start);
        for group in patterns[*level].pattern.iter().flat_map(|pattern| &pattern.groups) {
            all.push(Group {
                outer: group.outer.map(|outer| outer + start),
                captures: group.captures.iter().map(|capture| capture + first).collect(),
                ..*group
            });
        }
    }
    (starts, all)
}
