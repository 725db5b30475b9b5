//! The log and the clock of an appliance, where a sheet states that there is none, or that no screen shows it.

use super::node::{Entry, Value};
use trevlin_model::Facts;
use trevlin_model::housekeeping::{ClockKeeper, LogKeeper};

/// An empty list states that there is none: the device keeps no log elsewhere, or follows no clock. Returns whether it does.
pub(super) fn states_none(entry: &Entry, facts: &mut Facts) -> bool {
    let origin = entry.node.origin;
    if !matches!(&entry.node.value, Value::List(all) if all.is_empty()) {
        return false;
    }
    let program = trevlin_model::served::APPLIANCE;
    match &*entry.key {
        "log-keepers" => {
            let keeper = LogKeeper { program, targets: Vec::new(), open: Vec::new(), origin };
            facts.log_keepers.push(keeper);
        }
        "clock-keepers" => {
            let keeper = ClockKeeper { program, sources: Vec::new(), open: Vec::new(), origin };
            facts.clock_keepers.push(keeper);
        }
        _ => return false,
    }
    true
}

/// The log or the clock, where no screen shows it: it is to be established from the manual.
pub(super) fn not_seen(entry: &Entry, facts: &mut Facts) {
    let origin = entry.node.origin;
    let program = trevlin_model::served::APPLIANCE;
    let open = |what: &str| {
        let text = format!(
            "please establish from the manual or the vendor {what}; no screen of the device shows it."
        );
        vec![(text, origin)]
    };
    match &*entry.key {
        "log-keepers" => {
            let open = open("whether the log is sent to another host");
            facts.log_keepers.push(LogKeeper { program, targets: Vec::new(), open, origin });
        }
        "clock-keepers" => {
            let open = open("which time source is used");
            facts.clock_keepers.push(ClockKeeper { program, sources: Vec::new(), open, origin });
        }
        _ => {}
    }
}
