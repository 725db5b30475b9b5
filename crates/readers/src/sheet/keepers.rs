//! The log and the clock of an appliance, where a sheet states that there is none, or that no screen shows it.

use super::node::{Entry, Value};
use trevlin_model::housekeeping::{ClockKeeper, LogKeeper};
use trevlin_model::served::APPLIANCE;
use trevlin_model::{Facts, Origin};

/// An empty list states that there is none: the device keeps no log elsewhere, or follows no clock. Returns whether it does.
pub(super) fn states_none(entry: &Entry, facts: &mut Facts) -> bool {
    matches!(&entry.node.value, Value::List(all) if all.is_empty()) && keep(entry, facts, |_| Vec::new())
}

/// The log or the clock, where no screen shows it: it is to be established from the manual.
pub(super) fn not_seen(entry: &Entry, facts: &mut Facts) {
    keep(entry, facts, |what| {
        let text = format!(
            "please establish from the manual or the vendor {what}; no screen of the device shows it."
        );
        vec![(text, entry.node.origin)]
    });
}

/// Adds a keeper without a target or source, and the request for it; returns whether the section has keepers.
fn keep(entry: &Entry, facts: &mut Facts, open: impl Fn(&str) -> Vec<(String, Origin)>) -> bool {
    let (program, origin) = (APPLIANCE, entry.node.origin);
    match &*entry.key {
        "log-keepers" => {
            let open = open("whether the log is sent to another host");
            facts.log_keepers.push(LogKeeper { program, targets: Vec::new(), open, origin });
        }
        "clock-keepers" => {
            let open = open("which time source is used");
            facts.clock_keepers.push(ClockKeeper { program, sources: Vec::new(), open, origin });
        }
        _ => return false,
    }
    true
}
