//! Result of a review for one rule.

use crate::cube::{Cube, Field, Region, ranges, state};
use crate::program::RuleId;

/// Whether packets come to a rule and are decided there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RuleStatus {
    /// Some do.
    Alive,
    /// Its conditions, or those of the jump that leads to it, hold for no packet.
    Impossible,
    /// Earlier rules take everything it holds for.
    Covered {
        /// Those, in order; each takes a part that none before it takes.
        by: Vec<RuleId>,
    },
    /// A part of the chain is missing, or a condition before it is not analysed.
    NotDecided,
    /// Telling would have cost too much.
    TooCostly,
}

/// Results for one rule at one base chain.
#[derive(Debug, Clone, PartialEq)]
pub struct RuleReview {
    /// Whether it ever decides.
    pub status: RuleStatus,
    /// Whether all its conditions are analysed.
    pub exact: bool,
    /// How much of the new connections it holds for it is first to decide. `None` where it holds for no new connections, or
    /// where telling would have cost too much.
    pub left: Option<Left>,
    /// Earlier rules with the opposite verdict that take a part of it.
    pub partly: Vec<Partly>,
    /// For a deny: how its packets escape it, though it is in effect by its conditions.
    pub escaped: Option<Escape>,
    /// For a jump: whether its chain has rules that decide, and none of them for the packets of this jump.
    pub leads_to_nothing: bool,
    /// For a rule without effect: the later rules that decide the same for its packets, empty where the policy does.
    pub changes_nothing: Option<Vec<RuleId>>,
}

/// How all genuine packets that a deny names escape it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Escape {
    /// Earlier rules send them on, and what follows accepts some.
    AcceptedLater,
    /// Earlier rules accept some of them; the source of the rest is not behind the interface by which they enter.
    ForgedLeft,
}

/// How much earlier rules leave to one.
#[derive(Debug, Clone, Copy, PartialEq, PartialOrd)]
pub enum Left {
    /// Nothing.
    Nothing,
    /// This share of it; a share that differs from 1 by less than numbers can tell is shown as 1.
    Part(f64),
    /// All of it.
    All,
}

/// An earlier rule with the opposite verdict that takes a part of a later one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Partly {
    /// The earlier rule.
    pub by: RuleId,
    /// Whether the later rule covers all its packets: an exception before the general rule.
    pub exception: bool,
}

impl RuleReview {
    /// A rule that is reached by several paths: it is effective if it is effective in one, and other properties must hold in all.
    pub fn join(&mut self, other: Self) {
        // Where it holds for nothing there is nothing to say of it.
        if other.status == RuleStatus::Impossible {
            return;
        }
        if self.status == RuleStatus::Impossible {
            *self = other;
            return;
        }
        self.exact &= other.exact;
        self.left = self.left.zip(other.left).map(|(a, b)| if a > b { a } else { b });
        self.leads_to_nothing &= other.leads_to_nothing;
        self.escaped = self.escaped.filter(|one| other.escaped == Some(*one));
        self.partly.retain(|one| other.partly.contains(one));
        self.changes_nothing = match (self.changes_nothing.take(), other.changes_nothing) {
            (Some(mut a), Some(b)) => {
                a.extend(b.into_iter().filter(|one| !a.contains(one)).collect::<Vec<_>>());
                Some(a)
            }
            _ => None,
        };
        self.status = match (std::mem::replace(&mut self.status, RuleStatus::Alive), other.status) {
            (RuleStatus::Alive, _) | (_, RuleStatus::Alive) => RuleStatus::Alive,
            (RuleStatus::NotDecided, _) | (_, RuleStatus::NotDecided) => RuleStatus::NotDecided,
            (RuleStatus::TooCostly, _) | (_, RuleStatus::TooCostly) => RuleStatus::TooCostly,
            (RuleStatus::Covered { mut by }, RuleStatus::Covered { by: more }) => {
                by.extend(more);
                by.sort_unstable();
                by.dedup();
                RuleStatus::Covered { by }
            }
            // Both ways were gone through above.
            (other, RuleStatus::Impossible) | (RuleStatus::Impossible, other) => other,
        };
    }
}

/// First packets of connections, as hosts send them.
#[must_use]
pub fn new_connections() -> Region {
    let new = Cube::of(Field::State, ranges(vec![(state::NEW, state::NEW)]));
    let forward = Cube::of(Field::Reply, ranges(vec![(0, 0)]));
    let cube = new.zip(forward).and_then(|(new, forward)| new.and(&forward));
    Region { cubes: cube.into_iter().collect(), exact: true }
}
