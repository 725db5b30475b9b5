//! Whose source address a device replaces on the way out.

use crate::cube::{Cube, Field, Region, ranges};
use crate::diagram::{Diagrams, EMPTY, OverBudget};
use crate::program::{Action, Ending, Program, Waiting, at_hook, base_chains};
use crate::space::{Holds, Space, number};
use trevlin_model::{ChainKind, Filter, Hook, Interface, IpRange, Target, TranslationKind};

/// Outgoing traffic.
#[derive(Debug, Clone, Copy)]
pub struct Leaving<'a> {
    /// The addresses it comes from.
    pub sources: IpRange,
    /// The interface by which it leaves; none where that is not known.
    pub interface: Option<&'a str>,
}

/// Whether a device translates the source address of at least some outgoing packets from these sources. Undetermined where that depends on
/// a condition that is not analysed or on a missing part. The first translation of a hook applies (nft(8), "nat").
#[must_use]
pub fn hides_source(tables: &[&Filter], interfaces: &[Interface], leaving: &Leaving<'_>) -> Holds {
    let family = leaving.sources.family();
    let space = Space::new(family, tables, interfaces);
    let mut answer = Holds::No;
    for (filter, chain) in base_chains(tables, family, Hook::Postrouting) {
        if chain.kind != ChainKind::Nat {
            continue;
        }
        let program = Program::of(&space, filter, chain);
        let found = first_met(&space, filter, &program, leaving);
        answer = answer.max(found.unwrap_or(Holds::Perhaps));
        if !program.whole || !filter.complete {
            answer = answer.max(Holds::Perhaps);
        }
    }
    answer
}

/// Whether a translation of the source is met by any of what leaves, in one chain.
fn first_met(
    space: &Space,
    filter: &Filter,
    program: &Program,
    leaving: &Leaving<'_>,
) -> Result<Holds, OverBudget> {
    let mut sets = Diagrams::new(&space.greatest(), space.nodes());
    let sources = vec![(number(leaving.sources.first()), number(leaving.sources.last()))];
    let by = leaving.interface.map_or_else(
        || space.any_interface(),
        |name| {
            let at = space.interface(name);
            ranges(vec![(at, at)])
        },
    );
    let sides =
        [(Field::Source, ranges(sources)), (Field::Leaving, by), (Field::Reply, ranges(vec![(0, 0)]))];
    let mut left = at_hook(space, Hook::Postrouting).diagram(&mut sets)?;
    for (field, held) in sides {
        let side = Region { cubes: Cube::of(field, held).into_iter().collect(), exact: true };
        let side = side.diagram(&mut sets)?;
        left = sets.intersection(left, side)?;
    }
    let (mut answer, mut waiting) = (Holds::No, Waiting::default());
    for (number, step) in program.steps.iter().enumerate() {
        left = waiting.joined(number as u32, left, &mut sets)?;
        if matches!(step.action, Action::Pass { .. }) || step.region.is_empty() {
            continue;
        }
        let here = step.region.diagram(&mut sets)?;
        let met = sets.intersection(left, here)?;
        if met == EMPTY {
            continue;
        }
        let rule = step.rule.and_then(|id| filter.chains.get(id.chain as usize)?.rules.get(id.rule as usize));
        let hides = match (step.action, rule.map(|rule| &rule.target)) {
            (Action::End(Ending::Accept), Some(Target::Translate(how))) => {
                let kinds =
                    [TranslationKind::Masquerade, TranslationKind::Source, TranslationKind::NetworkMap];
                Holds::from(kinds.contains(&how.kind))
            }
            (Action::End(Ending::NotAnalysed), _) => Holds::Perhaps,
            _ => Holds::No,
        };
        if !step.region.exact {
            answer = answer.max(hides.min(Holds::Perhaps));
            continue;
        }
        answer = answer.max(hides);
        if answer == Holds::Yes {
            return Ok(answer);
        }
        left = sets.difference(left, here)?;
        if let Action::Skip(to) = step.action {
            waiting.send(to, met, &mut sets)?;
        }
    }
    Ok(answer)
}
