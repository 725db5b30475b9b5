//! Entries for several services: a policy or an account that a screen shows once, for all of them.

use super::node::{Node, Value};

/// Sections whose entries name a service.
const SECTIONS: [&str; 3] = ["permissions", "logins", "ppp-profiles"];

/// Words for every service that accepts remote users.
const ALL: [&str; 6] =
    ["remote access", "remote-access", "vpn", "all tunnels", "all remote access", "every tunnel"];

/// A service that accepts remote users, and whether its links are those of PPP.
struct Service {
    name: String,
    by_link: bool,
}

/// Repeats an entry for each service that it names: a list of services, or words for all of them where no service has such a name.
pub(super) fn spread(top: &mut Node) {
    let entries = |section: &str| top.get(section).map_or(&[][..], Node::each);
    let text = |node: &Node, key: &str| node.get(key).and_then(Node::text).map(str::to_owned);
    let named: Vec<String> = entries("tunnels")
        .iter()
        .chain(entries("services"))
        .filter_map(|one| text(one, "name"))
        .map(|name| name.to_ascii_lowercase())
        .collect();
    let servers: Vec<Service> = entries("tunnels")
        .iter()
        .filter(|one| text(one, "role").as_deref() == Some("server"))
        .filter_map(|one| {
            let family = text(one, "family").unwrap_or_default().to_ascii_lowercase();
            let by_link = family.starts_with("pptp") || family.starts_with("l2tp");
            Some(Service { name: text(one, "name")?, by_link })
        })
        .collect();
    let Value::Table(sections) = &mut top.value else { return };
    for section in sections.iter_mut().filter(|section| SECTIONS.contains(&&*section.key)) {
        let of_links = &*section.key == "ppp-profiles";
        let services = |one: &Node| {
            let stated = one.get("service").or_else(|| one.get("path"))?;
            if let Value::List(all) = &stated.value {
                return all.iter().map(|one| one.text().map(str::to_owned)).collect::<Option<Vec<String>>>();
            }
            let word = stated.text()?.to_ascii_lowercase();
            if named.contains(&word) || !ALL.contains(&word.as_str()) {
                return None;
            }
            let all = servers.iter().filter(|one| one.by_link || !of_links);
            Some(all.map(|one| one.name.clone()).collect())
        };
        let named: Vec<Option<Vec<String>>> = section.node.each().iter().map(services).collect();
        if named.iter().all(Option::is_none) {
            continue;
        }
        let mut found = Vec::new();
        for (one, services) in section.node.each().iter().zip(named) {
            match services {
                Some(all) if !all.is_empty() => found.extend(all.iter().map(|name| of(one, name))),
                _ => found.push(one.clone()),
            }
        }
        section.node.value = Value::List(found);
    }
}

/// The same entry for one service. An account remains in one list.
fn of(entry: &Node, service: &str) -> Node {
    let mut own = entry.clone();
    if own.get("user").is_some() {
        own.fill("list", entry.origin, Value::Text("accounts of remote access".into()));
    }
    for key in ["service", "path"] {
        own.at(&[key], &mut |node| node.value = Value::Text(service.into()));
    }
    own
}

#[cfg(test)]
mod tests {
    use crate::reader::ReadContext;
    use trevlin_model::{Export, ExportId};

    #[test]
    fn one_entry_for_several_services() {
        let tunnels = "[[tunnels]]\nname = \"New\"\nfamily = \"IKEv2\"\nrole = \"server\"\n\
                       [[tunnels]]\nname = \"Old\"\nfamily = \"PPTP\"\nrole = \"server\"\n";
        for (service, logins, profiles) in [
            ("\"remote access\"", &["New", "Old"][..], &["Old"][..]),
            ("\"VPN\"", &["New", "Old"], &["Old"]),
            ("[\"Old\"]", &["Old"], &["Old"]),
            ("[\"old\", \"new\"]", &["Old", "New"], &["Old"]),
            ("\"Old\"", &["Old"], &["Old"]),
        ] {
            let text = format!(
                "sheet = \"trevlin-sheet/2\"\n{tunnels}[[logins]]\nuser = \"astrid\"\nservice = {service}\n\
                 [[permissions]]\nwho = \"everybody\"\nservice = {service}\n[[ppp-profiles]]\nservice = {service}\nidle = \"30 min\"\n"
            );
            let export = Export::new(ExportId(0), "d/d.toml", text);
            let facts = (super::super::READER.read)(&export, &ReadContext::default()).facts;
            let found: Vec<&str> = facts.logins.iter().map(|one| one.service.as_str()).collect();
            assert_eq!(found, logins, "{service}");
            assert!(facts.logins.windows(2).all(|pair| pair[0].list == pair[1].list), "{service}");
            let found: Vec<&str> = facts.permissions.iter().map(|one| one.service.as_str()).collect();
            assert_eq!(found, logins, "{service}");
            let idle = facts.ppp_profiles.iter().filter(|one| one.idle.is_some());
            let found: Vec<&str> =
                idle.map(|one| one.path.as_str()).filter(|path| profiles.contains(path)).collect();
            assert_eq!(found, profiles, "{service}");
        }
    }
}
