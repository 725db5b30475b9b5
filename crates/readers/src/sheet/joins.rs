//! Names in a sheet that refer to other entries of it: the service of a login, the list of a tunnel. They are compared without regard to
//! case; one that matches nothing is an error.

use super::take::nearest;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::{Facts, LoginList, Note, PasswordSource};

/// Services that every device may have, and that no entry need state.
const OWN: [&str; 2] = ["SSH", "administration"];

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
    // Its own name stands for all of it.
    let device = facts.said_name.clone().unwrap_or_default();
    let lists: BTreeMap<String, String> = facts
        .logins
        .iter()
        .map(|login| list_of(&login.list))
        .map(|list| (list.to_ascii_lowercase(), list.to_owned()))
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
            } else if !lists.is_empty() && !list.is_empty() {
                let known: Vec<&str> = lists.values().take(SHOWN).map(String::as_str).collect();
                let text =
                    format!("no login of this sheet is in the list `{list}`; {}", nearest(list, &known));
                notes.push(Note { origin: check.origin, text });
            }
            named.insert(list.clone());
        }
    }
    // Without a tunnel and a service, the sheet is about logins alone.
    let reviewed = services.len() > OWN.len();
    for login in facts.logins.iter_mut().filter(|login| login.daemon.is_none() && login.service != device) {
        if let Some(same) = services.get(&login.service.to_ascii_lowercase()) {
            login.service.clone_from(same);
        } else if reviewed && !named.contains(list_of(&login.list)) {
            let known: Vec<&str> = services.values().take(SHOWN).map(String::as_str).collect();
            let text = format!(
                "no tunnel or service of this sheet has the name `{}`; {}",
                login.service,
                nearest(&login.service, &known)
            );
            notes.push(Note { origin: login.origin, text });
        }
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
