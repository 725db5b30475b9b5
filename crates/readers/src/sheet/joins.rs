//! Names in a sheet that refer to other entries of it: the service of a login, the list of a tunnel. They are compared without regard to
//! case; one that matches nothing is an error.

use super::take::{near, nearest};
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::account::UserGroup;
use trevlin_model::grant::Grantee;
use trevlin_model::ike::PreSharedKey;
use trevlin_model::ipsec::{AuthRound, IkeProof};
use trevlin_model::served::{PartKind, Remark, Served, ServiceResource};
use trevlin_model::{Facts, LoginDaemon, LoginList, Note, PasswordSource, Setting, Tunnel, TunnelFamily};

/// Services that every device may have, and that no entry need state.
const OWN: [&str; 2] = [SSH, ADMINISTRATION];
/// Shells of the device.
const SSH: &str = "SSH";
/// The administration of the device itself.
const ADMINISTRATION: &str = "administration";

/// How many names are compared with one that matches none.
const SHOWN: usize = 64;

/// Sets the names as the entries that they refer to have them, and reports those that match none.
pub(super) fn apply(facts: &mut Facts, notes: &mut Vec<Note>) {
    let services: BTreeMap<String, String> = facts
        .tunnels
        .iter()
        .map(|tunnel| tunnel.name.clone())
        .chain(facts.served.iter().map(|one| one.name.clone()))
        .chain(OWN.map(str::to_owned))
        .map(|name| (name.to_ascii_lowercase(), name))
        .collect();
    // A share, a page or a module stands for its service.
    let mut parts: BTreeMap<String, String> = BTreeMap::new();
    for served in &facts.served {
        for part in served.parts.iter().filter(|part| part.kind != PartKind::Community) {
            parts.entry(part.name.to_ascii_lowercase()).or_insert_with(|| served.name.clone());
        }
    }
    let daemons = daemons(&facts.served);
    // Its own name, and that of a program, stand for all of it.
    let device = facts.said_name.clone().unwrap_or_default();
    let programs: BTreeSet<String> =
        facts.served.iter().map(|served| served.program.to_ascii_lowercase()).collect();
    let lists: BTreeMap<String, String> = facts
        .logins
        .iter()
        .map(|login| list_of(&login.list))
        .map(|list| (list.to_ascii_lowercase(), list.to_owned()))
        .collect();
    let of_service: BTreeMap<String, String> = facts
        .logins
        .iter()
        .map(|login| (login.service.to_ascii_lowercase(), list_of(&login.list).to_owned()))
        .collect();
    let mut named: BTreeSet<String> = BTreeSet::new();
    for tunnel in &mut facts.tunnels {
        let others = tunnel.proof.alternatives.iter_mut().flat_map(|way| &mut way.passwords);
        for check in tunnel.proof.passwords.iter_mut().chain(others) {
            let (PasswordSource::LocalList(list) | PasswordSource::LocalListAndCode(list)) =
                &mut check.source
            else {
                continue;
            };
            if let Some(same) = lists.get(&list.to_ascii_lowercase()) {
                list.clone_from(same);
            } else if !lists.is_empty() {
                let known: Vec<&str> = lists.values().take(SHOWN).map(String::as_str).collect();
                // The logins of the tunnel are in its list, unless the name is a slip.
                match of_service
                    .get(&tunnel.name.to_ascii_lowercase())
                    .filter(|_| near(list, &known).is_none())
                {
                    Some(own) => list.clone_from(own),
                    None if list.is_empty() => {}
                    None => {
                        let text = format!(
                            "no login of this sheet is in the list `{list}`; {}",
                            nearest(list, &known)
                        );
                        notes.push(Note { origin: check.origin, text });
                    }
                }
            }
            if list.is_empty() {
                *list = format!("accounts of {}", tunnel.name);
            }
            named.insert(list.clone());
        }
    }
    // Without a tunnel and a service, the sheet is about logins alone.
    let reviewed = services.len() > OWN.len();
    for login in facts.logins.iter_mut().filter(|login| login.daemon.is_none() && login.service != device) {
        let lower = login.service.to_ascii_lowercase();
        if let Some(served) = parts.get(&lower).filter(|_| !services.contains_key(&lower)) {
            login.service.clone_from(served);
        }
        match join_service(&mut login.service, &services) {
            Ok(()) => login.daemon = daemons.get(&login.service.to_ascii_lowercase()).copied(),
            Err(text) if reviewed && !named.contains(list_of(&login.list)) && !programs.contains(&lower) => {
                notes.push(Note { origin: login.origin, text });
            }
            _ => {}
        }
    }
    shared_keys(facts);
    permissions(facts, &services, notes);
    pools(facts, notes);
    one_address_per_client(facts);
    networks_of_pools(facts);
    profiles(facts, notes);
    certificates(facts, notes);
    // The preferred one of several uplinks comes first.
    facts
        .routes
        .sort_by_key(|route| if route.is_default() { route.preference.unwrap_or(u32::MAX) } else { 0 });
}

/// What logins of a service open, by its name in small letters; those of a tunnel are not among them.
fn daemons(served: &[Served]) -> BTreeMap<String, LoginDaemon> {
    let opened = |one: &Served| {
        let administers = |part: &ServiceResource| part.remark(Remark::Administration).is_some();
        if one.parts.iter().any(administers) { LoginDaemon::Administration } else { LoginDaemon::Service }
    };
    let own = [
        (SSH.to_ascii_lowercase(), LoginDaemon::Shell),
        (ADMINISTRATION.to_owned(), LoginDaemon::Administration),
    ];
    own.into_iter().chain(served.iter().map(|one| (one.name.to_ascii_lowercase(), opened(one)))).collect()
}

/// A connection whose proof is not stated, and for whose peer there is a pre-shared key, uses it.
fn shared_keys(facts: &mut Facts) {
    let keys = &facts.pre_shared_keys;
    for connection in facts.tunnels.iter_mut().filter_map(|tunnel| tunnel.ipsec.as_deref_mut()) {
        if !connection.local.is_empty() || !connection.remote.is_empty() {
            continue;
        }
        let of_peer = |key: &&PreSharedKey| {
            connection.remote_addresses.iter().any(|(address, _)| key.identities.contains(address))
        };
        let Some(origin) = keys.iter().find(of_peer).map(|key| key.origin) else { continue };
        let round = AuthRound {
            proof: Setting::Stated { value: IkeProof::SharedKey, origin },
            identity: None,
            narrowed: None,
            certificates: Vec::new(),
        };
        (connection.local, connection.remote) = (vec![round.clone()], vec![round]);
    }
}

/// Sets the name of a service as its entry has it; the message where no entry has it.
fn join_service(name: &mut String, services: &BTreeMap<String, String>) -> Result<(), String> {
    if let Some(same) = services.get(&name.to_ascii_lowercase()) {
        name.clone_from(same);
        return Ok(());
    }
    let known: Vec<&str> = services.values().take(SHOWN).map(String::as_str).collect();
    Err(format!("no tunnel or service of this sheet has the name `{name}`; {}", nearest(name, &known)))
}

/// Reports certificates that the sheet names and does not have.
fn certificates(facts: &Facts, notes: &mut Vec<Note>) {
    let known: Vec<&str> = facts.files.iter().map(|(_, path)| path.as_str()).collect();
    if facts.certificates.is_empty() {
        return;
    }
    let of_tunnels = facts.tunnels.iter().flat_map(|tunnel| &tunnel.certificates);
    for file in of_tunnels.chain(facts.served.iter().flat_map(|served| &served.certificates)) {
        let Some(path) = file.path.as_deref().filter(|path| !known.contains(path)) else { continue };
        let text = format!("no certificate of this sheet has the name `{path}`; {}", nearest(path, &known));
        notes.push(Note { origin: file.origin, text });
    }
}

/// Joins permissions to services and, where the device states its groups, to these.
fn permissions(facts: &mut Facts, services: &BTreeMap<String, String>, notes: &mut Vec<Note>) {
    let (roles, groups): (Vec<&UserGroup>, Vec<&UserGroup>) = facts.groups.iter().partition(|one| one.role);
    let names =
        |all: Vec<&'_ UserGroup>| all.into_iter().map(|one| one.name.clone()).collect::<Vec<String>>();
    let (roles, groups) = (names(roles), names(groups));
    let either: BTreeSet<String> =
        roles.iter().chain(&groups).map(|name| name.to_ascii_lowercase()).collect();
    for one in &mut facts.permissions {
        if let Err(text) = join_service(&mut one.service, services) {
            notes.push(Note { origin: one.origin, text });
        }
        let (name, kind) = match &one.who {
            Grantee::Group(name) => (name, &groups),
            Grantee::Role(name) => (name, &roles),
            Grantee::AllUsers | Grantee::User(_) => continue,
        };
        // Without a list of its own the device asks a directory. One of the other kind is a fault of the device, not of the sheet.
        if either.contains(&name.to_ascii_lowercase()) {
            continue;
        }
        // A name that is no slip may be one of a directory.
        let known: Vec<&str> = kind.iter().map(String::as_str).collect();
        if near(name, &known).is_some() {
            let text =
                format!("no group or role of this sheet has the name `{name}`; {}", nearest(name, &known));
            notes.push(Note { origin: one.origin, text });
        }
    }
}

/// A client takes one address where nothing else is stated: blocks of four are a mode of one program.
fn one_address_per_client(facts: &mut Facts) {
    for tunnel in facts.tunnels.iter_mut().filter(|tunnel| tunnel.family != TunnelFamily::OpenVpn) {
        for pool in &mut tunnel.addresses.pools {
            if matches!(pool.per_client, Setting::Unknown { .. }) {
                pool.per_client = Setting::Stated { value: 1, origin: pool.origin };
            }
        }
    }
}

/// A network that several pools name is the network that they lie in, and none of them has all of it.
fn networks_of_pools(facts: &mut Facts) {
    let mut count: BTreeMap<ipnet::IpNet, usize> = BTreeMap::new();
    let all = facts.tunnels.iter().flat_map(|tunnel| &tunnel.addresses.pools);
    for network in all.filter(|pool| !pool.ranges.is_empty()).filter_map(|pool| pool.network) {
        *count.entry(network.trunc()).or_default() += 1;
    }
    for pool in facts.tunnels.iter_mut().flat_map(|tunnel| &mut tunnel.addresses.pools) {
        let shared =
            pool.network.is_some_and(|network| count.get(&network.trunc()).is_some_and(|many| *many > 1));
        if shared && !pool.ranges.is_empty() {
            pool.network = None;
        }
    }
}

/// Pools state their tunnel by their place; an owner that is another one is a slip.
fn pools(facts: &mut Facts, notes: &mut Vec<Note>) {
    let names: BTreeSet<String> = facts.tunnels.iter().map(|one| one.name.to_ascii_lowercase()).collect();
    for tunnel in &mut facts.tunnels {
        for pool in &mut tunnel.addresses.pools {
            let owner = pool.owner.to_ascii_lowercase();
            if owner.is_empty() || owner == tunnel.name.to_ascii_lowercase() {
                pool.owner.clone_from(&tunnel.name);
            } else if names.contains(&owner) || near(&pool.owner, &[&tunnel.name]).is_some() {
                let text = format!(
                    "the pool of `{0}` names `{1}` as its owner; expected `{0}`",
                    tunnel.name, pool.owner
                );
                notes.push(Note { origin: pool.origin, text });
            }
        }
    }
}

/// Joins link settings to the dial-in services that they are for.
fn profiles(facts: &mut Facts, notes: &mut Vec<Note>) {
    let by_link = |tunnel: &Tunnel| matches!(tunnel.family, TunnelFamily::Pptp | TunnelFamily::L2tp);
    for profile in &mut facts.ppp_profiles {
        for (method, _) in &mut profile.require {
            *method = method_of_words(method);
        }
        let wanted = profile.path.to_ascii_lowercase();
        let mut named = false;
        for tunnel in facts.tunnels.iter_mut().filter(|tunnel| by_link(tunnel)) {
            let file = tunnel.options_file.as_ref().and_then(Setting::value).cloned();
            let by_name = tunnel.name.to_ascii_lowercase() == wanted;
            if by_name && file.is_none() {
                profile.path.clone_from(&tunnel.name);
                let value = tunnel.name.clone();
                tunnel.options_file = Some(Setting::Stated { value, origin: profile.origin });
            }
            named |= by_name || file.is_some_and(|file| file.to_ascii_lowercase() == wanted);
        }
        if !named {
            let known: Vec<&str> =
                facts.tunnels.iter().filter(|one| by_link(one)).map(|one| one.name.as_str()).collect();
            let text = format!(
                "no tunnel by PPTP or L2TP of this sheet has the name `{}`; {}",
                profile.path,
                nearest(&profile.path, &known)
            );
            notes.push(Note { origin: profile.origin, text });
        }
    }
}

/// A method by the name that pppd has for it, however a screen writes it: `MS-CHAP v2`.
fn method_of_words(text: &'static str) -> &'static str {
    let plain: String = text.chars().filter(char::is_ascii_alphanumeric).collect();
    match plain.to_ascii_lowercase().as_str() {
        "pap" => "pap",
        "chap" | "chapmd5" => "chap",
        "mschap" | "mschapv1" => "mschap",
        "mschapv2" | "mschap2" => "mschap-v2",
        "eap" => "eap",
        _ => text,
    }
}

fn list_of(list: &LoginList) -> &str {
    let LoginList::LocalFile(list) = list;
    list
}

#[cfg(test)]
mod tests {
    use crate::reader::ReadContext;
    use trevlin_model::{Export, ExportId};

    #[test]
    fn names_are_joined_or_reported() {
        for (service, list, passwords, wanted, told) in [
            ("remote access", "own accounts", "", "remote access", ""),
            ("Remote Access", "own accounts", "", "remote access", ""),
            ("remote acces", "own accounts", "", "remote acces", "did you mean `remote access`?"),
            ("ssh", "own accounts", "", "SSH", ""),
            ("depot", "own accounts", "", "depot", "expected one of: administration, remote access, SSH"),
            // The tunnel names the list.
            ("depot", "own accounts", "Own accounts", "depot", ""),
            ("remote access", "own accounts", "own acounts", "remote access", "did you mean `own accounts`?"),
        ] {
            let proof = match passwords {
                "" => String::new(),
                list => {
                    format!("[tunnels.proof]\npasswords = [{{ source = {{ local-list = \"{list}\" }} }}]\n")
                }
            };
            let text = format!(
                "sheet = \"trevlin-sheet/1\"\n[[logins]]\nuser = \"astrid\"\nlist = {{ local-file = \"{list}\" }}\nservice = \
                 \"{service}\"\n[[tunnels]]\nname = \"remote access\"\nfamily = \"pptp\"\nrole = \"server\"\n{proof}"
            );
            let export = Export::new(ExportId(0), "d/d.toml", text);
            let reading = (super::super::READER.read)(&export, &ReadContext::default());
            assert_eq!(reading.facts.logins[0].service, wanted, "{service}");
            let notes: Vec<&str> = reading.ledger.notes.iter().map(|note| &*note.text).collect();
            assert_eq!(notes.len(), usize::from(!told.is_empty()), "{service} {list}: {notes:?}");
            assert!(notes.iter().all(|note| note.contains(told)), "{notes:?}");
        }
    }
}
