//! A pool has fewer addresses than clients.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::addresses::PoolOwner;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Family, IpRange, Origin, Pool};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/pool-too-small",
    area: Area::Addresses,
    title: "Client pool too small for its users",
    severity: Severity::Low,
    why: "Clients are rejected once the last address is assigned, typically on the day everyone works remotely. Emergency \
          changes, such as a second pool or another login path, then remain in place.",
    fix: "Assign a network with room for all users and some growth; `trevlin addresses --free` proposes one.",
    judged: "Fails where the pool has room for fewer clients than the server permits at a time, where a limit is set, or \
             than its list of accounts names. In the net30 topology of OpenVPN a client needs four addresses; where the \
             version decides the topology, only a pool too small for both fails.",
    references: &[
        "openvpn(8), --max-clients and --topology",
        "pptpd.conf(5), connections",
        "ocserv(8), max-clients",
    ],
    needs: &[Need::Services],
    run: Run::Map(run),
};

/// Number of possible clients, with the statement and its place.
pub(super) struct Demand {
    /// Number of clients.
    pub(super) clients: u32,
    /// Source of the number.
    pub(super) says: &'static str,
    /// Where.
    pub(super) origin: Origin,
}

/// The pools of an estate by tunnel, each with the number of its clients.
pub(super) struct Stores<'a> {
    pools: BTreeMap<Of<'a>, Vec<&'a Pool>>,
    /// Number of login names in each list, with the place of the first.
    names: BTreeMap<Of<'a>, (u32, Origin)>,
    sessions: BTreeMap<Of<'a>, (u32, Origin)>,
}

/// A tunnel: its device, and its name.
type Of<'a> = (usize, &'a str);

impl<'a> Stores<'a> {
    pub(super) fn of(estate: &'a EstateMap) -> Self {
        let mut made = Self { pools: BTreeMap::new(), names: BTreeMap::new(), sessions: BTreeMap::new() };
        for one in &estate.plan().pools {
            if let Some(pool) = &one.pool {
                made.pools.entry((one.device, &one.name)).or_default().push(pool);
            }
        }
        for (at, device) in estate.devices.iter().enumerate() {
            for (name, plan) in device.facts.plans() {
                if let Some(stated) = plan.sessions {
                    made.sessions.entry((at, name)).or_insert(stated);
                }
            }
            for login in device.logins.iter().filter(|login| login.certain) {
                let (count, _) = made.names.entry((at, &login.service)).or_insert((0, login.origin));
                *count = count.saturating_add(1);
            }
        }
        made
    }

    /// Number of clients that a tunnel may have: the stated limit, and the names of its list.
    pub(super) fn needs(&self, holder: &'a PoolOwner) -> Vec<Demand> {
        let of = (holder.device, holder.name.as_str());
        let need = |says| {
            move |(clients, origin): &(u32, Origin)| Demand { clients: *clients, says, origin: *origin }
        };
        let stated = self.sessions.get(&of).map(need("concurrent clients are permitted"));
        stated
            .into_iter()
            .chain(self.names.get(&of).map(need("accounts are in the list of logins")))
            .collect()
    }

    /// Number of clients that a tunnel's pools can serve, at least and at most, counted for the IP version with more addresses, since a
    /// client receives one of each.
    pub(super) fn room(&self, holder: &'a PoolOwner) -> Option<(u128, u128)> {
        let (mut least, mut most) = ([0u128; 2], [0u128; 2]);
        for pool in self.pools.get(&(holder.device, holder.name.as_str())).into_iter().flatten() {
            if !pool.malformed.is_empty() {
                return None;
            }
            let at = usize::from(pool.ranges.first().is_some_and(|(range, _)| range.family() == Family::V6));
            let size = free(pool);
            let per_client = || pool.per_client.possible().map(|count| u128::from(*count).max(1));
            least[at] = least[at].saturating_add(size / per_client().max().unwrap_or(1));
            most[at] = most[at].saturating_add(size / per_client().min().unwrap_or(1));
        }
        let at = usize::from(most[1] > 0 && most[0] == 0);
        (most[at] > 0).then_some((least[at], most[at]))
    }
}

/// Number of addresses for clients: those of the ranges or, where only the network is stated, those of its hosts, without the server's own.
fn free(pool: &Pool) -> u128 {
    let own =
        |range: &IpRange| pool.server_addresses.iter().filter(|own| range.contains(**own)).count() as u128;
    match (pool.ranges.is_empty(), pool.network) {
        (true, Some(net)) => {
            let whole = IpRange::from(net);
            let ends = if whole.first().is_ipv4() && whole.size() > 2 { 2 } else { 0 };
            whole.size() - ends - own(&whole).min(whole.size() - ends)
        }
        _ => {
            let taken: u128 = pool.ranges.iter().map(|(range, _)| own(range)).sum();
            pool.size().saturating_sub(taken)
        }
    }
}

/// The title and the sentence for a pool and the number of its clients.
pub(super) fn words(
    estate: &EstateMap,
    name: &str,
    room: u128,
    pool: Origin,
    need: &Demand,
) -> (String, String) {
    (
        format!("{name} has addresses for {room} clients, and {} are possible", need.clients),
        format!(
            "The pool has room for {room} clients ({}), while {} {} ({}).",
            estate.place(pool),
            need.clients,
            need.says,
            estate.place(need.origin)
        ),
    )
}

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let (stores, mut answered) = (Stores::of(estate), BTreeSet::new());
    let mut answers: Vec<Answer> = Vec::new();
    for holder in &estate.plan().pools {
        let Some(pool) = &holder.pool else { continue };
        // Several pools of one tunnel are one store.
        if answered.contains(&(holder.device, &holder.name)) {
            continue;
        }
        let Some((_, most)) = stores.room(holder) else { continue };
        answered.insert((holder.device, &holder.name));
        let needs = stores.needs(holder);
        let verdict = match needs.iter().find(|need| u128::from(need.clients) > most) {
            _ if needs.is_empty() => Verdict::DoesNotApply,
            None => {
                let origin = pool.ranges.first().map_or(pool.origin, |(_, origin)| *origin);
                Verdict::pass_by([origin].into_iter().chain(needs.first().map(|need| need.origin)), origin)
            }
            Some(need) => {
                let origin = pool.ranges.first().map_or(pool.origin, |(_, origin)| *origin);
                let (title, detail) = words(estate, &holder.name, most, origin, need);
                Verdict::Fail(Fail {
                    rating: CHECK.rated("further clients are rejected; others are not affected"),
                    title: title.into(),
                    detail: detail.into(),
                    evidence: vec![origin, need.origin],
                })
            }
        };
        answers.push(Answer::new(
            holder.device,
            Subject::of(SubjectKind::Addresses).with(&holder.name),
            verdict,
        ));
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let server = |more: &str| format!("dev tun\nserver 10.8.0.0 255.255.255.240\n{more}\n");
        for (more, wanted) in [
            ("topology subnet\nmax-clients 13", &["pass d"][..]),
            ("topology subnet\nmax-clients 14", &["fail low d s.conf:2 s.conf:4"]),
            ("topology net30\nmax-clients 3", &["fail low d s.conf:2 s.conf:4"]),
            ("max-clients 10", &["pass d"]),
            ("topology subnet", &["none d"]),
        ] {
            run(&CHECK, &[(more, &[("d/s.conf", &server(more))], wanted)]);
        }
        let lines: String = (0..5).map(|n| format!("caller{n} gate sesame{n} *\n")).collect();
        let files = [
            ("d/pptpd.conf", "option /etc/ppp/o\nlocalip 10.8.0.1\nremoteip 10.8.0.9-11\n"),
            ("d/etc/ppp/o", "name gate\nrequire-mschap-v2\n"),
            ("d/etc/ppp/options", "lock\n"),
        ];
        let mut with_list = files.to_vec();
        with_list.push(("d/chap-secrets", lines.as_str()));
        run(&CHECK, &[("a list of logins", &with_list, &["fail low d pptpd.conf:3 chap-secrets:1"])]);
        run(&CHECK, &[("a mistyped pool", &[("d/pptpd.conf", "remoteip 10.8.0.9-300\n")], &[])]);
    }
}
