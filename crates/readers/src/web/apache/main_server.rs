//! Settings outside of virtual hosts, which every virtual host inherits.

use crate::angles::Directive;
use std::collections::BTreeMap;

/// Settings of the main server, by name: each virtual host needs a few names among possibly many.
pub(super) struct Main<'d, 'a> {
    by_name: BTreeMap<&'d str, Vec<(usize, &'d Directive<'a>)>>,
}

impl<'d, 'a> Main<'d, 'a> {
    pub(super) fn of(all: &'d [Directive<'a>]) -> Self {
        let mut by_name: BTreeMap<&str, Vec<(usize, &Directive<'_>)>> = BTreeMap::new();
        for (at, one) in all.iter().enumerate() {
            by_name.entry(&one.name).or_default().push((at, one));
        }
        Self { by_name }
    }

    fn with_place(&self, name: &str) -> impl Iterator<Item = (usize, &'d Directive<'a>)> {
        self.by_name.get(name).into_iter().flatten().copied()
    }

    /// The directives of a name, in order.
    pub(super) fn each(&self, name: &str) -> impl Iterator<Item = &'d Directive<'a>> {
        self.with_place(name).map(|(_, one)| one)
    }

    /// Those of two names, in order.
    pub(super) fn of_either(&self, one: &str, other: &str) -> impl Iterator<Item = &'d Directive<'a>> {
        let mut all: Vec<(usize, &Directive<'_>)> =
            self.with_place(one).chain(self.with_place(other)).collect();
        all.sort_by_key(|(at, _)| *at);
        all.into_iter().map(|(_, one)| one)
    }

    /// The last of a name.
    pub(super) fn last(&self, name: &str) -> Option<&'d Directive<'a>> {
        self.by_name.get(name)?.last().map(|(_, one)| *one)
    }
}
