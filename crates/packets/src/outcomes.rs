//! Effect of a whole base chain, as sets: the packets it accepts, drops and rejects.

use crate::diagram::{Diagrams, EMPTY, OverBudget, Set};
use crate::program::{Action, Ending, Program, Waiting, at_hook};
use crate::space::Space;
use trevlin_model::{Chain, Filter, Hook};

/// The packets that come to a base chain, by what becomes of them. The four are apart and together all that come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ChainOutcome {
    /// Accepted packets.
    pub accepted: Set,
    /// Dropped.
    pub dropped: Set,
    /// Rejected.
    pub rejected: Set,
    /// Packets whose handling depends on a condition or a target that is not analysed.
    pub not_decided: Set,
}

/// The sets of a base chain, in `sets`, which has to be over the fields of the space.
///
/// # Errors
/// When the budget is used up.
pub fn outcomes(
    space: &Space,
    filter: &Filter,
    chain: &Chain,
    sets: &mut Diagrams,
) -> Result<ChainOutcome, OverBudget> {
    let program = Program::of(space, filter, chain);
    let mut left = at_hook(space, chain.hook.unwrap_or(Hook::Forward)).diagram(sets)?;
    let mut found = [EMPTY; 4];
    let mut unsure = EMPTY;
    let mut waiting = Waiting::default();
    for (number, step) in program.steps.iter().enumerate() {
        left = waiting.joined(number as u32, left, sets)?;
        if matches!(step.action, Action::Pass { .. }) || step.region.is_empty() {
            continue;
        }
        let here = step.region.diagram(sets)?;
        let met = sets.intersection(left, here)?;
        if met == EMPTY {
            continue;
        }
        if !step.region.exact {
            // Both ways are open from here on.
            unsure = sets.union(unsure, met)?;
        } else {
            left = sets.difference(left, here)?;
        }
        match step.action {
            Action::End(ending) if step.region.exact => {
                let at = place(ending);
                found[at] = sets.union(found[at], met)?;
            }
            Action::Skip(to) if step.region.exact => {
                waiting.send(to, met, sets)?;
            }
            _ => {}
        }
    }
    left = waiting.joined(u32::MAX, left, sets)?;
    let at = place(program.policy);
    found[at] = sets.union(found[at], left)?;
    let not_decided = sets.union(found[place(Ending::NotAnalysed)], unsure)?;
    let mut sure = |set| sets.difference(set, not_decided);
    Ok(ChainOutcome {
        accepted: sure(found[0])?,
        dropped: sure(found[1])?,
        rejected: sure(found[2])?,
        not_decided,
    })
}

fn place(ending: Ending) -> usize {
    match ending {
        Ending::Accept => 0,
        Ending::Drop => 1,
        Ending::Reject => 2,
        Ending::NotAnalysed => 3,
    }
}
