//! Results of the phrases for exports, and the readings that come of them.

use super::hidden;
use super::land::Sheet;
use super::open;
use super::results::{PhraseResult, Tried};
use crate::reader::{LineRecorder, Reading};
use crate::sheet::node::Node;
use crate::sheet::write_node;
use smol_str::SmolStr;
use std::collections::BTreeSet;
use trevlin_model::secret::Masker;
use trevlin_model::{Export, Limit, LineClass, Note, Origin, PossibleAddress};

/// Results of the phrases for an export.
pub(super) struct Walked {
    pub(super) sheet: Sheet,
    pub(super) notes: Vec<Note>,
    pub(super) cuts: Vec<Origin>,
    pub(super) classes: Vec<(Origin, LineClass)>,
    pub(super) masked: Vec<Origin>,
    pub(super) told: Option<Vec<(Origin, PhraseResult)>>,
    /// Places of parts of a rule base that were not understood.
    pub(super) near_rules: Vec<Origin>,
    /// Addresses in statements that were not understood.
    pub(super) possible: Vec<PossibleAddress>,
    /// Whether these leave the whole rule base open.
    pub(super) all_open: bool,
    /// Statements of blocks that no phrase knows, with the names that their words may be.
    pub(super) unknown: Vec<(Origin, Vec<SmolStr>)>,
}

impl Walked {
    /// Adds the result of the piece that follows.
    pub(super) fn followed_by(mut self, later: Self) -> Self {
        self.sheet.append(later.sheet);
        self.notes.extend(later.notes);
        self.cuts.extend(later.cuts);
        self.classes.extend(later.classes);
        self.masked.extend(later.masked);
        self.near_rules.extend(later.near_rules);
        self.unknown.extend(later.unknown);
        self.possible.extend(later.possible);
        self.all_open |= later.all_open;
        if let (Some(told), Some(later)) = (&mut self.told, later.told) {
            told.extend(later);
        }
        self
    }
}

/// What became of each statement.
type Told = Vec<(Origin, PhraseResult)>;

/// Results of one export by statement.
struct Rest {
    classes: Vec<(Origin, LineClass)>,
    cuts: Vec<Origin>,
    masked: Vec<Origin>,
    told: Option<Told>,
}

/// The readings of the exports of a device, in their order.
pub(super) fn finished(exports: &[&Export], walked: Vec<Walked>) -> Vec<Tried> {
    let Some(first) = exports.first() else { return Vec::new() };
    let tells = walked.iter().any(|one| one.told.is_some());
    let all_open = walked.iter().any(|one| one.all_open);
    let mut sheet = Sheet::new(first.origin(0..0));
    let (mut notes, mut near_rules, mut rest) = (Vec::new(), Vec::new(), Vec::new());
    let (mut unknown, mut possible) = (Vec::new(), Vec::new());
    for one in walked {
        possible.extend(one.possible);
        sheet.append(one.sheet);
        unknown.extend(one.unknown);
        notes.extend(one.notes);
        near_rules.extend(one.near_rules);
        rest.push(Rest { classes: one.classes, cuts: one.cuts, masked: one.masked, told: one.told });
    }
    let facts = || {
        let mut top: Node = sheet.finish(&mut notes);
        let opened = open::translations(&mut top, &unknown);
        let shown = tells.then(|| top.clone());
        (crate::sheet::facts(first, top), shown, opened)
    };
    let ledgers = || {
        let one = |(export, rest): (&&Export, Rest)| {
            let mut reading = Reading::of(export);
            let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
            rest.classes.into_iter().for_each(|(origin, class)| book.class(origin, class));
            rest.cuts.into_iter().for_each(|at| book.cut(at, Limit::Nesting, "nested statements"));
            (Tried { statements: rest.told.unwrap_or_default(), reading, ..Tried::default() }, rest.masked)
        };
        exports.iter().zip(rest).map(one).collect::<Vec<_>>()
    };
    let (((mut found, unjoined), shown, opened), read) = rayon::join(facts, ledgers);
    near_rules.extend(opened);
    // What is left open is reported with the statement that was not understood.
    if !near_rules.is_empty() {
        let near = Near::of(near_rules);
        found.notes.retain(|note| !near.holds(note.origin));
    }
    if all_open {
        found.facts.filters.iter_mut().for_each(|filter| filter.complete = false);
    }
    found.facts.possible_addresses.extend(possible);
    let mut facts = Some(found.facts);
    let of_sheet = found.notes;
    let mut all: Vec<Tried> = Vec::new();
    for (export, (mut one, masked)) in exports.iter().zip(read) {
        let reading = &mut one.reading;
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let own = |note: &&Note| note.origin.export == export.id();
        for note in notes.iter().filter(own) {
            book.not_understood(note.origin, note.text.clone());
        }
        for note in of_sheet.iter().filter(own) {
            book.not_understood(note.origin, format!("the resulting sheet: {}", note.text));
        }
        if let Some(facts) = facts.take() {
            *reading.facts = facts;
        }
        reading.facts.masked_places.extend(masked);
        all.push(one);
    }
    // Each of them shows an appliance, though the facts are with the first.
    let described = all.first().and_then(|one| one.reading.facts.described);
    all.iter_mut().for_each(|one| one.reading.facts.described = described);
    if let Some(mut top) = shown {
        for (one, export) in all.iter_mut().zip(exports) {
            crate::announced::add(export, &mut one.reading.facts);
        }
        let facts = || all.iter().map(|one| &one.reading.facts);
        let places: Vec<Origin> = facts().flat_map(|facts| facts.masked_places.iter().copied()).collect();
        let masker = Masker::new(facts().flat_map(|facts| facts.to_mask()), &places);
        // A secret that is an ordinary word is masked where it is one, and nowhere else.
        let places: BTreeSet<Origin> = places.into_iter().collect();
        if !places.is_empty() {
            hidden::hide(&mut top, &places);
        }
        let sheet = write_node(&top, exports, &|text| masker.mask(text));
        if let Some(one) = all.first_mut() {
            one.sheet = sheet;
            one.notes = of_sheet.into_iter().chain(unjoined).collect();
        }
    }
    all
}

/// Places, to ask whether one of them holds another.
struct Near {
    /// In order, each with the furthest end of those up to it.
    places: Vec<(u32, u32)>,
}

impl Near {
    fn of(mut places: Vec<Origin>) -> Self {
        places.sort_unstable();
        places.dedup();
        let mut furthest = 0;
        let reach = |place: Origin| {
            furthest = furthest.max(place.end);
            (place.start, furthest)
        };
        Self { places: places.into_iter().map(reach).collect() }
    }

    fn holds(&self, place: Origin) -> bool {
        let before = self.places.partition_point(|(start, _)| *start <= place.start);
        before > 0 && self.places[before - 1].1 >= place.end
    }
}
