//! Rules that programs set for their own work: container engines, virtual machines, clusters, and programs that ban addresses. No file of an
//! administrator has them, so that they are not judged as rules that a person wrote; traffic passes them like any other.

use std::collections::BTreeSet;
use trevlin_model::{Chain, Filter, Hook, MatchKind, Rule, Target};

/// Beginnings of the names of chains that programs fill: Docker, Podman, libvirt, Kubernetes, fail2ban.
const CHAINS: [&str; 8] = ["DOCKER", "NETAVARK_", "CNI-", "LIBVIRT_", "KUBE-", "cali-", "f2b-", "sshguard"];
/// Chains that these programs leave to the administrator.
const ADMINISTRATORS: [&str; 3] = ["DOCKER-USER", "CNI-ADMIN", "NETAVARK_INPUT_USER"];

/// Rules of programs in one table.
#[derive(Debug, Default)]
pub struct ProgramRules<'a> {
    /// Bridges whose traffic an engine sends through its chain.
    bridges: BTreeSet<&'a str>,
}

impl<'a> ProgramRules<'a> {
    /// Those of a table.
    #[must_use]
    pub fn of(filter: &'a Filter) -> Self {
        let forward = filter.chains.iter().filter(|chain| chain.hook == Some(Hook::Forward));
        let bridges = forward.flat_map(|chain| &chain.rules).filter_map(|rule| {
            match (&rule.target, rule.matches.as_slice()) {
                (Target::Jump(name), [one]) if name == "DOCKER" && !one.negated => match &one.kind {
                    MatchKind::Leaving(bridge) => Some(bridge.as_str()),
                    _ => None,
                },
                _ => None,
            }
        });
        Self { bridges: bridges.collect() }
    }

    /// Whether a program set a rule.
    #[must_use]
    pub fn has(&self, chain: &Chain, rule: &Rule) -> bool {
        rule.is_of_a_program()
            || (chain.hook.is_none() && is_of_a_program(&chain.name))
            || self.is_bridge(rule)
    }

    /// A rule for a bridge alone, as Docker sets four for each: what leaves by it goes through its chain, answers come in, and what comes from
    /// it is accepted.
    fn is_bridge(&self, rule: &Rule) -> bool {
        let of_bridge = |name: &str| self.bridges.contains(name);
        let conditions = rule.matches.iter().all(|one| match &one.kind {
            MatchKind::Entering(name) | MatchKind::Leaving(name) => of_bridge(name),
            MatchKind::States(states) => states.established && !states.new,
            _ => false,
        });
        let named = rule
            .matches
            .iter()
            .any(|one| !one.negated && matches!(one.kind, MatchKind::Entering(_) | MatchKind::Leaving(_)));
        let target = match &rule.target {
            Target::Accept => true,
            Target::Jump(name) => name == "DOCKER",
            _ => false,
        };
        !self.bridges.is_empty() && conditions && named && target
    }
}

fn is_of_a_program(chain: &str) -> bool {
    !ADMINISTRATORS.contains(&chain) && CHAINS.iter().any(|begin| chain.starts_with(begin))
}
