//! Pieces of packet filters, for readers that make them and do not find them.

use trevlin_model::{
    Chain, ChainKind, ConnectionStates, ExportState, Families, Filter, FilterFormat, Hook, Match, MatchKind,
    Origin, Residual, Rule, Target,
};

/// A condition.
pub(crate) fn holds(kind: MatchKind) -> Match {
    Match { negated: false, kind }
}

/// A condition that may hold or not.
pub(crate) fn open(what: impl Into<String>) -> Match {
    holds(MatchKind::NotAnalysed(Residual::described(what)))
}

/// One condition where any of several lists of conditions will do.
pub(crate) fn any_of(mut lists: Vec<Vec<Match>>) -> Vec<Match> {
    if lists.len() == 1 { lists.pop().unwrap_or_default() } else { vec![holds(MatchKind::AnyOf(lists))] }
}

/// The condition that a packet belongs to a connection that is known.
pub(crate) fn known() -> Match {
    holds(MatchKind::States(ConnectionStates {
        established: true,
        related: true,
        ..ConnectionStates::default()
    }))
}

/// The condition that a packet's destination was translated.
pub(crate) fn translated() -> Match {
    holds(MatchKind::States(ConnectionStates { dnat: true, ..ConnectionStates::default() }))
}

/// A rule without log and comment.
pub(crate) fn rule(matches: Vec<Match>, target: Target, origin: Origin) -> Rule {
    Rule { matches, target, logs: false, comment: None, packets: None, origin, looked_up_at: None }
}

/// A chain that packets enter by themselves, and pass at its end.
pub(crate) fn base(name: &str, at: (Hook, i32), kind: ChainKind, rules: Vec<Rule>, origin: Origin) -> Chain {
    let (hook, priority) = at;
    Chain { name: name.into(), hook: Some(hook), priority, kind, policy: Some(Target::Accept), rules, origin }
}

/// A chain that only jumps reach.
pub(crate) fn plain(name: impl Into<String>, rules: Vec<Rule>, origin: Origin) -> Chain {
    let name = name.into();
    Chain { name, hook: None, priority: 0, kind: ChainKind::Filter, policy: None, rules, origin }
}

/// The chains that lead to lists of interfaces: for packets that arrive, and for those that leave. A list looks at packets as they are on
/// the interface: arriving ones before, and leaving ones after their addresses are translated.
pub(crate) fn by_interface(arriving: Vec<Rule>, leaving: Vec<Rule>, origin: Origin) -> [Chain; 2] {
    [
        base("ingress", (Hook::Prerouting, -150), ChainKind::Filter, arriving, origin),
        base("egress", (Hook::Postrouting, 150), ChainKind::Filter, leaving, origin),
    ]
}

/// A table for both versions of IP of a device that keeps its rules in order.
pub(crate) fn table(name: &str, chains: Vec<Chain>, origin: Origin) -> Filter {
    Filter {
        families: Families::Both,
        format: FilterFormat::Ordered,
        table: name.into(),
        state: ExportState::Running,
        chains,
        sets: Vec::new(),
        complete: true,
        gaps_placed: false,
        additions: false,
        origin,
    }
}
