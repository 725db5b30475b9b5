//! Shells that people log in to.

use crate::authentication::{METHODS, SshLoginPath, conditions, ssh_login_paths, weakest_path};
use crate::context::Analyses;
use crate::login_sources::admitted;
use crate::logins::{LoginPath, ServiceKind, from, judged, shown};
use crate::verdicts::LoginVerdict;
use std::collections::BTreeSet;
use trevlin_estate::identities;
use trevlin_model::ssh::{SshConnection, SshServer};
use trevlin_model::{Device, Origin, Protocol, Reference, Setting};

/// One row for all users, and one for each condition under which the required authentication differs.
pub(super) fn rows(estate: &Analyses, at: usize, server: &SshServer) -> Vec<LoginPath> {
    let mut rows = vec![shell(estate, at, server, &SshConnection::default(), None, server.origin)];
    rows.extend(superuser(estate, at, server));
    let conditions = conditions(&estate.devices[at], server, &METHODS);
    for condition in conditions.into_iter().filter(|one| !one.barred) {
        let mut row =
            shell(estate, at, server, &condition.connection(), condition.who.clone(), condition.origin);
        if !condition.sources.is_empty() {
            row.sources.clone_from(&condition.sources);
        }
        rows.push(row);
    }
    rows
}

/// The row of root, where it is stated that root may log in.
fn superuser(estate: &Analyses, at: usize, server: &SshServer) -> Option<LoginPath> {
    let groups = identities::root_groups(&estate.devices[at]);
    let connection = SshConnection { user: Some("root"), groups: &groups, ..SshConnection::default() };
    let Setting::Stated { value, origin } = server.effective("permitrootlogin", &connection) else {
        return None;
    };
    let word = value.first().map(String::as_str)?;
    if word == "no" || server.excluded_by("root", &groups).is_some() {
        return None;
    }
    let mut row = shell(estate, at, server, &connection, Some("root".into()), origin);
    if word != "yes" {
        // Passwords are rejected for this account by both methods that use one; a login path that needs one is closed.
        let asks_none = |way: &SshLoginPath| {
            way.methods
                .iter()
                .all(|name| !matches!(name.split(':').next(), Some("password" | "keyboard-interactive")))
        };
        let ways: Vec<SshLoginPath> =
            ssh_login_paths(estate, at, server, &connection).into_iter().filter(asks_none).collect();
        let way = weakest_path(&ways)?;
        (row.factors, row.verdict) = judged(shown(&way.factors));
        row.list = shell_list(&ways);
        if word == "forced-commands-only" {
            row.limits.insert(0, "forced commands only".into());
        }
    }
    row.administrators = vec!["root".into()];
    Some(row)
}

fn shell(
    estate: &Analyses,
    at: usize,
    server: &SshServer,
    connection: &SshConnection<'_>,
    who: Option<String>,
    origin: Origin,
) -> LoginPath {
    let device = &estate.devices[at];
    let ways = ssh_login_paths(estate, at, server, connection);
    let easiest = weakest_path(&ways);
    let (factors, verdict) = match easiest {
        Some(way) => judged(shown(&way.factors)),
        // A sheet that states no method leaves them open.
        None if Reference::left_open(&server.missing).is_some() => (Vec::new(), LoginVerdict::Undetermined),
        None => (Vec::new(), LoginVerdict::Closed),
    };
    let mut limits = limits(device, server, connection);
    if easiest.is_some_and(|way| way.factors.undecided.is_some() && shown(&way.factors).is_some()) {
        limits.insert(0, "PAM may require more".into());
    }
    if limits.is_empty() && estate.is_appliance(at) {
        limits.push("not known".into());
    }
    let port = server.port(connection);
    let people = identities::People::of(device);
    let administrators = people.administrators().into_keys().filter(|name| name != "root");
    let about = connection.user.is_none_or(|user| user != "root");
    let of_row = |name: &String| {
        let in_group = connection.groups.is_empty()
            || people.groups_of(name).iter().any(|group| connection.groups.contains(group));
        about && in_group && connection.user.is_none_or(|user| user == name)
    };
    LoginPath {
        device: device.name.clone(),
        administrators: administrators.filter(of_row).collect(),
        sources: allowed_sources(server, connection),
        kind: ServiceKind::Shell,
        service: "SSH".into(),
        who: who.unwrap_or_else(|| allowed(estate, at, server)),
        list: shell_list(&ways),
        factors,
        from: if server.refused.is_some() {
            "does not start".into()
        } else {
            from(estate, at, Protocol::TCP, Some(port))
        },
        limits,
        verdict: if server.refused.is_some() { LoginVerdict::Undetermined } else { verdict },
        evidence: trevlin_estate::evidence::evidence(estate, &[origin]),
    }
}

/// Users permitted by name or group.
fn allowed(estate: &Analyses, at: usize, server: &SshServer) -> String {
    let stated = |keyword: &str| match server.effective(keyword, &SshConnection::default()) {
        Setting::Stated { value, .. } => Some(value.join(", ")),
        _ => None,
    };
    match (stated("allowusers"), stated("allowgroups")) {
        (Some(users), _) => users,
        (None, Some(groups)) => format!("group {groups}"),
        (None, None) => {
            let accounts = estate.devices[at].facts.accounts.iter().filter(|one| one.has_shell()).count();
            let own = if accounts == 0 && estate.is_appliance(at) {
                "not known".into()
            } else if accounts == 0 {
                "every account".into()
            } else {
                format!("every account ({accounts} with a shell)")
            };
            match admitted(&estate.devices[at]) {
                others if others.is_empty() => own,
                others => format!("{own}; {others}"),
            }
        }
    }
}

fn shell_list(ways: &[SshLoginPath]) -> String {
    let methods: BTreeSet<_> =
        ways.iter().flat_map(|way| &way.methods).map(|name| name.split(':').next().unwrap_or(name)).collect();
    let words: Vec<_> = methods
        .iter()
        .map(|name| match *name {
            "publickey" => "keys",
            "password" => "accounts",
            "keyboard-interactive" => "PAM",
            other => other,
        })
        .collect();
    words.join(", ")
}

/// Addresses behind the `@` of AllowUsers, where every name there has one; otherwise those that the lists of clients accept.
fn allowed_sources(server: &SshServer, connection: &SshConnection<'_>) -> Vec<String> {
    match server.effective("allowusers", connection) {
        Setting::Stated { value, .. } => {
            let hosts: Option<Vec<String>> =
                value.iter().map(|one| Some(one.split_once('@')?.1.to_owned())).collect();
            let mut hosts = hosts.unwrap_or_default();
            hosts.sort();
            hosts.dedup();
            hosts
        }
        _ => {
            server.lists.iter().filter(|lists| lists.certain).flat_map(|lists| lists.sources.each()).collect()
        }
    }
}

/// Limits that are stated, in words.
fn limits(device: &Device, server: &SshServer, connection: &SshConnection<'_>) -> Vec<String> {
    let shown =
        [("maxauthtries", "tries"), ("maxsessions", "sessions"), ("logingracetime", "s login grace time")];
    let mut found: Vec<String> = shown
        .iter()
        .filter_map(|(keyword, words)| match server.effective(keyword, connection) {
            Setting::Stated { value, .. } => Some(format!("{} {words}", value.first()?)),
            _ => None,
        })
        .collect();
    let counts = |name: &str| {
        let service = device.facts.pam_services.iter().find(|service| service.name == name);
        service.is_some_and(|service| service.lines.iter().any(|line| line.module == "pam_faillock"))
    };
    if counts("sshd") || counts("common-auth") {
        found.push("lockout after failures".into());
    }
    found
}
