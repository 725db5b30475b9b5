//! Factors that the `auth` stack of a PAM service requires.

use crate::authentication::factors::{Factors, Undecided};
use crate::authentication::pam_conditions::{Conditions, PamCondition, sentence};
use crate::authentication::pam_stack::{Entry, EntryKind, MOST_STEPS, Proof, Stack, is_remote_knowledge};
use crate::authentication::pam_walk::{Proved, Walk};
use std::collections::{BTreeMap, BTreeSet};
use trevlin_estate::assemble::Estate;
use trevlin_model::ssh::matches;
use trevlin_model::{FactorKind, Origin};

/// Bypassed modules that are cited, and alternative conditions that are named.
const SHOWN: usize = 4;

/// Conditions of one stack whose part in the result is followed; stacks of distributions have at most a handful.
const MOST_CONDITIONS: usize = 10;

/// Factors of the weakest path through the `auth` stack of a service; none where no path grants access. `of_radius` answers for the RADIUS
/// server that a module uses, by its line.
pub(super) fn of_stack(
    estate: &Estate,
    device: usize,
    service: &str,
    asked_at: Origin,
    of_radius: &dyn Fn(Origin) -> Factors,
) -> Option<Factors> {
    let services = &estate.devices[device].facts.pam_services;
    let Some(found) = services.iter().find(|one| one.name == service) else {
        return Some(Factors::undecided(not_exported(service, vec![asked_at])));
    };
    let mut stack = Stack::of(services, MOST_STEPS);
    stack.add(found, 0, 0, &[]);
    let Stack { mut entries, left, .. } = stack;
    let local = !entries.iter().any(|entry| match &entry.kind {
        EntryKind::Module { line, .. } => is_remote_knowledge(line),
        EntryKind::Substack => false,
        EntryKind::Missing(_) => true,
    });
    let mut conditions = Conditions::of(estate, device, service, local);
    for entry in &mut entries {
        let EntryKind::Module { line, outcomes } = &mut entry.kind else { continue };
        entry.condition = conditions.stated_by(line);
        if let Some(condition) = &entry.condition {
            outcomes
                .retain(|one| if one.result == "success" { condition.success } else { condition.failure });
        }
    }
    remember(&mut entries);
    // One module hands on to a RADIUS server, which may be a device of the estate.
    let mut radius: Option<(Factors, Origin)> = None;
    for entry in &mut entries {
        let EntryKind::Module { line, outcomes } = &mut entry.kind else { continue };
        if !matches(&line.module, "pam_radius*") {
            continue;
        }
        let (asked, _) = radius.get_or_insert_with(|| (of_radius(line.origin), line.origin));
        if let Some(kinds) = asked.decided() {
            let proof = kinds.iter().next().map_or(Proof::Nothing, |kind| Proof::Factor(*kind));
            for outcome in outcomes.iter_mut().filter(|outcome| outcome.proof == Proof::Elsewhere) {
                outcome.proof = proof;
            }
        }
    }
    let ends = Some(&entries).filter(|_| left > 0).and_then(|entries| Walk::through(entries));
    let Some(ends) = ends else {
        let ask = format!(
            "Please state the login methods of the PAM stack `{service}`, which is too long to be analysed"
        );
        return Some(Factors::undecided(Undecided {
            ask,
            evidence: vec![found.origin, asked_at],
            file: None,
        }));
    };
    weakest(&ends, &entries, service, asked_at, radius)
}

/// Marks the entries whose results matter later on a path: lines that occur several times in the stack, and conditions, where they are few.
/// Every remembered result multiplies the paths.
fn remember(entries: &mut [Entry<'_>]) {
    let mut times: BTreeMap<usize, usize> = BTreeMap::new();
    entries.iter().for_each(|entry| *times.entry(entry.first).or_default() += 1);
    let conditions = entries.iter().filter(|entry| entry.condition.is_some()).count();
    for entry in entries {
        let repeated = times.get(&entry.first).is_some_and(|times| *times > 1);
        entry.remembered = repeated || (entry.condition.is_some() && conditions <= MOST_CONDITIONS);
    }
}

/// The beginning of a request for a PAM stack.
#[must_use]
pub fn provide_pam(service: &str) -> String {
    format!("Please provide `/etc/pam.d/{service}`, with the files it includes")
}

/// The request for a file of `pam.d`.
fn not_exported(service: &str, evidence: Vec<Origin>) -> Undecided {
    Undecided { ask: provide_pam(service), evidence, file: Some(format!("/etc/pam.d/{service}")) }
}

/// The weakest of all paths that grant access.
fn weakest(
    ends: &BTreeSet<Proved>,
    entries: &[Entry<'_>],
    service: &str,
    asked_at: Origin,
    radius: Option<(Factors, Origin)>,
) -> Option<Factors> {
    let paths: Vec<(&Proved, Factors)> =
        ends.iter().map(|path| (path, of_path(path, entries, service, asked_at))).collect();
    let least = paths.iter().map(|(_, factors)| factors.weakness()).min()?;
    let judged: Vec<(&Proved, bool)> =
        paths.iter().map(|(path, factors)| (*path, factors.weakness() == least)).collect();
    let conditions = deciding(&judged, entries);
    let (_, mut found) = paths.into_iter().find(|(_, factors)| factors.weakness() == least)?;
    if let Some(file) = conditions.iter().find_map(|one| one.missing.clone()) {
        let evidence =
            conditions.iter().flat_map(|one| one.lines.iter().copied()).chain([asked_at]).collect();
        let ask =
            format!("Please provide `{file}`, the list of logins that the PAM stack `{service}` exempts");
        found.undecided.get_or_insert(Undecided { ask, evidence, file: Some(file) });
    }
    found.conditions = conditions;
    if let Some((asked, at)) = radius
        && found.lines.contains(&at)
    {
        match (&mut found.undecided, asked.undecided) {
            // Where the RADIUS server is the reason, its own result is more informative.
            (Some(mine), Some(theirs)) => {
                mine.ask = theirs.ask;
                mine.evidence.extend(theirs.evidence);
                mine.file = theirs.file;
            }
            _ => found.lines.extend(asked.lines),
        }
    }
    Some(found)
}

/// An answer to a condition: its entry, and whether it is met.
type Answer = (usize, bool);

/// Conditions that the weakest paths share and that stronger ones do not meet: those under which a login is that weak. Where there are
/// several such paths with nothing in common, the condition of each.
fn deciding(paths: &[(&Proved, bool)], entries: &[Entry<'_>]) -> Vec<PamCondition> {
    let answers = |path: &Proved| -> BTreeSet<Answer> {
        let met = |(entry, number): (usize, usize)| {
            let EntryKind::Module { outcomes, .. } = &entries[entry].kind else { return None };
            entries[entry].condition.as_ref()?;
            Some((entry, outcomes.get(number)?.result == "success"))
        };
        path.answers().filter_map(met).collect()
    };
    let mut stronger = paths.iter().filter(|(_, weakest)| !weakest).map(|(path, _)| answers(path));
    let Some(first) = stronger.next() else { return Vec::new() };
    // An answer that every stronger path has as well makes no difference.
    let shared: BTreeSet<Answer> =
        stronger.fold(first, |shared, one| shared.intersection(&one).copied().collect());
    let own: Vec<BTreeSet<Answer>> = paths
        .iter()
        .filter(|(_, weakest)| *weakest)
        .map(|(path, _)| answers(path).difference(&shared).copied().collect())
        .collect();
    // A path that is always open.
    let Some(first) = own.first().filter(|_| own.iter().all(|one| !one.is_empty())) else {
        return Vec::new();
    };
    let common: BTreeSet<Answer> =
        own.iter().skip(1).fold(first.clone(), |common, one| common.intersection(one).copied().collect());
    let said =
        |(entry, met): &Answer| entries[*entry].condition.as_ref().map(|condition| condition.answered(*met));
    if !common.is_empty() {
        return common.iter().filter_map(said).collect();
    }
    let own: BTreeSet<&BTreeSet<Answer>> = own.iter().collect();
    if own.len() > SHOWN {
        return Vec::new();
    }
    let together = |one: &BTreeSet<Answer>| {
        let all: Vec<PamCondition> = one.iter().filter_map(said).collect();
        (sentence(&all), all)
    };
    let ways: Vec<(String, Vec<PamCondition>)> = own.into_iter().map(together).collect();
    let words: Vec<&str> = ways.iter().map(|(words, _)| words.as_str()).collect();
    let all = ways.iter().flat_map(|(_, all)| all);
    vec![PamCondition {
        words: words.join(", or "),
        addresses: None,
        lines: all.clone().flat_map(|one| one.lines.iter().copied()).collect(),
        missing: all.clone().find_map(|one| one.missing.clone()),
    }]
}

/// Factors that one path requires.
fn of_path(path: &Proved, entries: &[Entry<'_>], service: &str, asked_at: Origin) -> Factors {
    let used: BTreeSet<usize> = path.entries.iter().chain(&path.elsewhere).copied().collect();
    let mut lines: Vec<Origin> = Vec::new();
    for line in used.iter().flat_map(|number| entries[*number].lines()) {
        if !lines.contains(&line) {
            lines.push(line);
        }
    }
    let mut factors = Factors::known(path.kinds.clone(), lines);
    let missed = |entry: &&Entry<'_>| {
        entry.factor().is_some_and(|kind| kind != FactorKind::Knowledge && !path.kinds.contains(&kind))
    };
    factors.bypassed = entries.iter().filter(missed).map(|entry| entry.origin).take(SHOWN).collect();
    let evidence = || factors.lines.iter().copied().chain([asked_at]).collect();
    factors.undecided = path.elsewhere.and_then(|number| match &entries[number].kind {
        EntryKind::Missing(file) => Some(not_exported(file, evidence())),
        EntryKind::Module { line, .. } => Some(Undecided {
            ask: format!("Please provide the settings of `{}` in the PAM stack of `{service}`", line.module),
            evidence: evidence(),
            file: None,
        }),
        EntryKind::Substack => None,
    });
    factors
}

#[cfg(test)]
mod tests {
    use crate::authentication::factors::tests::kinds;
    use crate::authentication::service::of_service;
    use crate::testing::estate;

    #[test]
    fn stacks() {
        const UNIX: &str = "auth [success=1 default=ignore] pam_unix.so\nauth requisite pam_deny.so\nauth required pam_permit.so\n";
        for (sshd, more, wanted) in [
            ("auth required pam_unix.so\n", None, "Knowledge"),
            ("auth required pam_oath.so\nauth required pam_unix.so\n", None, "Knowledge+OneTimeCode"),
            ("# auth required pam_oath.so\nauth required pam_unix.so\n", None, "Knowledge"),
            ("account required pam_oath.so\nauth required pam_unix.so\n", None, "Knowledge"),
            ("auth sufficient pam_oath.so\nauth required pam_unix.so\n", None, "Knowledge"),
            (
                "auth required pam_phone_authenticator.so nullok\nauth required pam_unix.so\n",
                None,
                "Knowledge",
            ),
            ("auth required pam_u2f.so nouserok\nauth required pam_unix.so\n", None, "Knowledge"),
            (
                "auth required pam_phone_authenticator.so\nauth required pam_unix.so\n",
                None,
                "Knowledge+OneTimeCode",
            ),
            ("auth required pam_radius_auth.so\n", None, "?"),
            ("auth sufficient pam_radius_auth.so\nauth required pam_unix.so\n", None, "Knowledge"),
            ("auth required pam_radius_auth.so\nauth required pam_unix.so\n", None, "Knowledge+?"),
            ("auth optional pam_oath.so\nauth required pam_unix.so\n", None, "Knowledge"),
            ("@include common-auth\n", Some(UNIX), "Knowledge"),
            ("@include common-auth\nauth required pam_oath.so\n", Some(UNIX), "Knowledge+OneTimeCode"),
            ("auth required pam_oath.so\n@include common-auth\n", Some(UNIX), "Knowledge+OneTimeCode"),
            ("@include common-auth\n", None, "?"),
            ("auth required pam_permit.so\n", None, ""),
            (
                "auth [success=2 default=ignore] pam_localuser.so\nauth required pam_oath.so\nauth required pam_unix.so\nauth required pam_unix.so\n",
                None,
                "Knowledge",
            ),
            ("auth required pam_faillock.so preauth\nauth required pam_unix.so\n", None, "Knowledge"),
            ("auth required pam_deny.so\n", None, "closed"),
            // Files of the other facilities decide nothing.
            (
                "auth required pam_unix.so\n@include common-account\n@include common-session\n",
                None,
                "Knowledge",
            ),
            // Accounts without a code are ignored, and what nothing counts for is no success.
            ("auth required pam_phone_authenticator.so nullok\n", None, "OneTimeCode"),
            ("auth required pam_phone_authenticator.so nullok\nauth required pam_permit.so\n", None, ""),
            ("auth required pam_oath.so\n", None, "OneTimeCode"),
            // A result that has an action of its own, and a jump that leaves the stack.
            (
                "auth [success=ok user_unknown=ignore default=die] pam_oath.so\nauth required pam_unix.so\n",
                None,
                "Knowledge",
            ),
            ("auth [success=3 default=ignore] pam_unix.so\nauth required pam_permit.so\n", None, ""),
            ("auth [success=2 default=die] pam_unix.so\nauth required pam_permit.so\n", None, "closed"),
            // A substack ends by itself; an included file ends the whole stack.
            (
                "auth substack common-auth\nauth required pam_oath.so\n",
                Some("auth sufficient pam_unix.so\nauth requisite pam_deny.so\n"),
                "Knowledge+OneTimeCode",
            ),
            (
                "auth include common-auth\nauth required pam_oath.so\n",
                Some("auth sufficient pam_unix.so\nauth requisite pam_deny.so\n"),
                "Knowledge",
            ),
            // A control that cannot be parsed fails whatever its module says.
            ("auth perhaps pam_permit.so\nauth required pam_unix.so\n", None, "closed"),
            ("auth required pam_oath.so\n@include common-auth\n", None, "OneTimeCode+?"),
            ("auth substack common-auth\nauth required pam_u2f.so\n", Some(UNIX), "Knowledge+Possession"),
        ] {
            let mut files = vec![("d/etc/pam.d/sshd", sshd)];
            files.extend(more.map(|text| ("d/etc/pam.d/common-auth", text)));
            let estate = estate(&files);
            let asked_at = estate.devices[0].facts.pam_services[0].origin;
            let found = of_service(&estate, 0, "sshd", asked_at);
            assert_eq!(found.as_ref().map_or_else(|| "closed".to_owned(), kinds), wanted, "{sshd}");
        }
    }
}
