//! A table while it is being read.

use crate::nft::expr::{Base, Element, RuleText};
use indexmap::IndexMap;
use trevlin_model::Origin;

#[derive(Default)]
pub(super) struct Table {
    pub(super) origin: Option<Origin>,
    pub(super) dormant: bool,
    pub(super) chains: IndexMap<String, ChainText>,
    pub(super) sets: IndexMap<String, SetText>,
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
        self.chains.get_mut(name)
    }

    pub(super) fn set(&mut self, name: &str) -> &mut SetText {
        self.sets.entry(name.to_owned()).or_default()
    }
}
