//! A table while it is being read.

use crate::nft::expr::{Base, Element, RuleText};
use trevlin_model::Origin;

#[derive(Default)]
pub(super) struct Table {
    pub(super) origin: Option<Origin>,
    pub(super) dormant: bool,
    pub(super) chains: Vec<(String, ChainText)>,
    pub(super) sets: Vec<(String, SetText)>,
}

pub(super) struct ChainText {
    pub(super) base: Option<Base>,
    pub(super) origin: Origin,
    pub(super) rules: Vec<RuleText>,
    /// A rule was put at a place that the file does not tell.
    pub(super) out_of_order: bool,
}

#[derive(Default)]
pub(super) struct SetText {
    pub(super) dynamic: bool,
    pub(super) elements: Vec<Element>,
    pub(super) origin: Option<Origin>,
}

impl Table {
    pub(super) fn chain(&mut self, name: &str) -> Option<&mut ChainText> {
        self.chains.iter_mut().find(|(one, _)| one == name).map(|(_, chain)| chain)
    }

    pub(super) fn set(&mut self, name: &str) -> &mut SetText {
        let at = self.sets.iter().position(|(one, _)| one == name).unwrap_or_else(|| {
            self.sets.push((name.to_owned(), SetText::default()));
            self.sets.len() - 1
        });
        &mut self.sets[at].1
    }
}
