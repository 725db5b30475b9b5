//! Every path through a PAM stack, walked as libpam does.

use crate::authentication::pam_stack::{Entry, EntryKind, MOST_STEPS, Outcome, Proof};
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::FactorKind;
use trevlin_model::pam::PamAction;

/// Factors proved on one path through a stack.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Proved {
    pub(super) kinds: BTreeSet<FactorKind>,
    /// The first entry whose requirement is not known.
    pub(super) elsewhere: Option<usize>,
    /// Entries that proved something.
    pub(super) entries: Vec<usize>,
    /// Results that depend on the user alone, by the first entry with this module and these arguments: the same line answers the same
    /// again. Only those of remembered entries.
    fixed: BTreeMap<usize, usize>,
}

impl Proved {
    /// With a factor; the first module that verifies it is the one to cite.
    fn with(mut self, kind: FactorKind, entry: usize) -> Self {
        if self.kinds.insert(kind) {
            self.entries.push(entry);
        }
        self
    }

    /// With one of the results of a line; none where it contradicts an earlier result of the same line. Whether a credential is right may
    /// differ from one prompt to the next; whether a user is enrolled, or meets a condition, may not.
    fn with_result(mut self, first: usize, number: usize, outcomes: &[Outcome]) -> Option<Self> {
        let verifies =
            outcomes.iter().any(|outcome| matches!(outcome.proof, Proof::Factor(_) | Proof::Elsewhere));
        let outcome = &outcomes[number];
        // The number of the result, or for a module that verifies something whether it is one for users without it.
        let exempt = outcome.proof == Proof::Nothing && outcome.result != "auth_err";
        let answer = if verifies { usize::from(exempt) } else { number };
        (*self.fixed.entry(first).or_insert(answer) == answer).then_some(self)
    }

    /// Entries whose result depends on the user, with the number of the result.
    pub(super) fn answers(&self) -> impl Iterator<Item = (usize, usize)> + '_ {
        self.fixed.iter().map(|(entry, number)| (*entry, *number))
    }

    /// With a requirement that is not known; the first is the one to ask about.
    fn with_unknown(mut self, entry: usize) -> Self {
        self.elsewhere.get_or_insert(entry);
        self
    }
}

/// libpam's view of a stack so far (`_pam_dispatch_aux`): no result yet, an agreed result, or failure.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord)]
enum Impression {
    #[default]
    Undefined,
    /// Agreed: with success, or with another result whose action is `ok`.
    Positive(bool),
    Negative,
}

/// State of a walk.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord)]
struct State {
    impression: Impression,
    /// Level of the entry before, and the impression at the beginning of each substack.
    level: usize,
    saved: Vec<Impression>,
}

/// A walk along every path through a stack.
pub(super) struct Walk<'a> {
    entries: &'a [Entry<'a>],
    ends: BTreeSet<Proved>,
    open: Vec<(usize, State, Proved)>,
}

impl<'a> Walk<'a> {
    /// Everything that is proved at the ends that grant access; none where there are too many paths.
    pub(super) fn through(entries: &'a [Entry<'a>]) -> Option<BTreeSet<Proved>> {
        let mut walk = Self { entries, ends: BTreeSet::new(), open: Vec::new() };
        walk.open.push((0, State::default(), Proved::default()));
        // The same state is reached in several ways, and goes on the same from there.
        let mut seen = BTreeSet::new();
        while let Some(next) = walk.open.pop() {
            if seen.contains(&next) {
                continue;
            }
            if seen.len() == MOST_STEPS {
                return None;
            }
            seen.insert(next.clone());
            let (at, state, proved) = next;
            walk.step(at, state, proved);
        }
        Some(walk.ends)
    }

    fn step(&mut self, at: usize, mut state: State, proved: Proved) {
        let Some(entry) = self.entries.get(at) else {
            if state.impression == Impression::Positive(true) {
                self.ends.insert(proved);
            }
            return;
        };
        if state.level < entry.level {
            state.saved.truncate(entry.level);
            state.saved.resize(entry.level + 1, state.impression);
        }
        state.level = entry.level;
        match &entry.kind {
            EntryKind::Substack => self.open.push((at + 1, state, proved)),
            EntryKind::Missing(_) => {
                self.act(at, PamAction::Ok, true, &state, proved.with_unknown(at));
            }
            EntryKind::Module { line, outcomes } => {
                for (number, outcome) in outcomes.iter().enumerate() {
                    let Some(action) = line.control.action(&outcome.result) else { continue };
                    let proved = match entry.remembered {
                        true => proved.clone().with_result(entry.first, number, outcomes),
                        false => Some(proved.clone()),
                    };
                    let Some(proved) = proved else { continue };
                    let proved = match outcome.proof {
                        Proof::Factor(kind) => proved.with(kind, at),
                        Proof::Elsewhere => proved.with_unknown(at),
                        Proof::Nothing => proved,
                    };
                    self.act(at, action, outcome.result == "success", &state, proved);
                }
            }
        }
    }

    /// Goes on behind an entry whose result has an action.
    fn act(&mut self, at: usize, action: PamAction, success: bool, state: &State, proved: Proved) {
        let level = self.entries[at].level;
        let mut state = state.clone();
        let mut next = at + 1;
        match action {
            PamAction::Reset => {
                state.impression = match level {
                    0 => Impression::Undefined,
                    _ => state.saved.get(level).copied().unwrap_or_default(),
                };
            }
            PamAction::Ok | PamAction::Done => {
                if matches!(state.impression, Impression::Undefined | Impression::Positive(true)) {
                    state.impression = Impression::Positive(success);
                }
                if action == PamAction::Done && matches!(state.impression, Impression::Positive(_)) {
                    next = self.end_of_level(at, level);
                }
            }
            PamAction::Bad => state.impression = Impression::Negative,
            PamAction::Die => {
                state.impression = Impression::Negative;
                next = self.end_of_level(at, level);
            }
            PamAction::Ignore => {}
            PamAction::Jump(count) => {
                for _ in 0..count {
                    // A jump beyond the end of its stack is a failure.
                    if self.entries.get(next).is_none_or(|entry| entry.level < level) {
                        state.impression = Impression::Negative;
                        break;
                    }
                    next += 1;
                    while self.entries.get(next).is_some_and(|entry| entry.level > level) {
                        next += 1;
                    }
                }
            }
        }
        self.open.push((next, state, proved));
    }

    /// The first entry behind a stack that ends here.
    fn end_of_level(&self, at: usize, level: usize) -> usize {
        let behind = self.entries[at + 1..].iter().position(|entry| entry.level < level);
        behind.map_or(self.entries.len(), |count| at + 1 + count)
    }
}
