//! Evidence of a packet's path: the deciding lines, and devices without a known filter.

use trevlin_estate::assemble::Estate;
use trevlin_model::{Device, Family, IpRange, Origin};
use trevlin_packets::way::{Step, StepKind};

/// Lines of rules and of translations of the destination among the deciding steps; routes only describe the path, and another source decides
/// nothing that other lines do not show.
pub fn deciding(steps: &[Step]) -> impl Iterator<Item = Origin> {
    let decides = |step: &&Step| {
        !step.kind.is_route() && !matches!(step.kind, StepKind::Translated { destination: false, .. })
    };
    steps.iter().filter(decides).filter_map(|step| step.origin)
}

/// The same as evidence: jumps that a program sets by itself, which say nothing of the packets, come last.
pub fn cited(steps: &[Step]) -> impl Iterator<Item = Origin> {
    let is_jump = |origin: &Origin| {
        let of = |step: &Step| step.origin == Some(*origin);
        let says_nothing = |step: &Step| matches!(step.kind, StepKind::Jumps { always: true, .. });
        steps.iter().filter(|step| of(step)).all(says_nothing)
    };
    let (jumps, rules): (Vec<Origin>, Vec<Origin>) = deciding(steps).partition(is_jump);
    rules.into_iter().chain(jumps)
}

/// The section by which a firewall includes the file of a rule, or the rule that looks an element up: the line that puts another in force.
#[must_use]
pub fn put_in_force_by(device: &Device, line: Origin) -> Option<Origin> {
    let rules = device.facts.filters.iter().flat_map(|filter| &filter.chains).flat_map(|chain| &chain.rules);
    rules.filter(|rule| rule.origin == line).find_map(|rule| rule.looked_up_at)
}

/// The first device on the path without an exported packet filter, so that the permitted traffic is not known.
pub fn without_filter(estate: &Estate, steps: &[Step], family: Family) -> Option<usize> {
    let mut devices = steps.iter().map(|step| step.device).filter(|device| *device < estate.devices.len());
    devices.find(|device| estate.tables(*device, family).is_empty())
}

/// Ranges in their shortest form, a few of them.
pub fn some_ranges(all: &[IpRange]) -> String {
    const MOST: usize = 4;
    let shown = all.iter().take(MOST).map(IpRange::short).collect::<Vec<_>>().join(", ");
    if all.len() > MOST { format!("{shown} and {} more", all.len() - MOST) } else { shown }
}
