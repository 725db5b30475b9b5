//! Which directives there are.

use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::LineClass;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    judged: BTreeSet<String>,
    kept: BTreeSet<String>,
    passed_over: BTreeSet<String>,
    inline: BTreeSet<String>,
    removed: BTreeMap<String, String>,
    switches: BTreeSet<String>,
}

trevlin_model::table! { static TABLE: Table = "../../tables/openvpn-directives.toml"; }

/// Classification of a directive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Class {
    /// A fact of its own.
    Judged,
    /// A setting of the tunnel.
    Kept,
    /// Nothing.
    Ignored,
}

impl Class {
    pub(super) fn ledger(self) -> LineClass {
        if self == Self::Ignored { LineClass::Ignored } else { LineClass::Understood }
    }
}

/// The class of a directive; `None` where openvpn(8) has none of that name.
pub(super) fn class(name: &str) -> Option<Class> {
    if TABLE.judged.contains(name) {
        Some(Class::Judged)
    } else if TABLE.kept.contains(name) {
        Some(Class::Kept)
    } else {
        TABLE.passed_over.contains(name).then_some(Class::Ignored)
    }
}

/// Whether a file's content may be embedded in the configuration under this name.
pub(super) fn inline(name: &str) -> bool {
    TABLE.inline.contains(name)
}

/// Whether a directive has no arguments, so that its presence enables it.
pub(super) fn is_switch(name: &str) -> bool {
    TABLE.switches.contains(name)
}

/// The version from which on the daemon refuses a directive.
pub(super) fn removed(name: &str) -> Option<&'static str> {
    TABLE.removed.get(name).map(String::as_str)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_is_sound() {
        let lists = [&TABLE.judged, &TABLE.kept, &TABLE.passed_over];
        assert!(lists.iter().all(|list| list.len() > 30));
        for (at, list) in lists.iter().enumerate() {
            for other in &lists[at + 1..] {
                assert_eq!(list.intersection(other).collect::<Vec<_>>(), Vec::<&String>::new());
            }
        }
        assert!(TABLE.inline.iter().chain(TABLE.removed.keys()).all(|name| class(name).is_some()));
    }
}
