//! Shorter forms of entries, as people write them: they become the entries that facts are read from.

use super::briefly::expanded;
use super::node::{Entry, Node, Value};
use super::several::spread;
use super::words::{Known, grantee, translated};
use trevlin_model::Origin;
use trevlin_model::served::APPLIANCE;

/// A value in a table that replaces a plain one.
pub(super) struct Around {
    /// Section.
    pub(super) section: &'static str,
    /// Keys that lead to the value, within an entry of the section.
    pub(super) path: &'static [&'static str],
    /// Key under which the plain value is placed.
    pub(super) key: &'static str,
    /// Further values that the table needs.
    with: &'static [(&'static str, &'static str)],
}

/// Values that may be plain words.
pub(super) const AROUND: [Around; 11] = [
    // An address with its length.
    Around { section: "interfaces", path: &["addresses"], key: "net", with: &[] },
    Around { section: "stored-interfaces", path: &["addresses"], key: "net", with: &[] },
    // A certificate by the name that the section of certificates gives it.
    Around { section: "tunnels", path: &["certificates"], key: "path", with: &[("purpose", "own")] },
    Around {
        section: "tunnels",
        path: &["client-authorities"],
        key: "path",
        with: &[("purpose", "authority")],
    },
    Around { section: "services", path: &["certificates"], key: "path", with: &[("purpose", "own")] },
    // Who verifies a password, and a method by its name alone.
    Around { section: "tunnels", path: &["proof", "passwords"], key: "source", with: &[] },
    Around { section: "tunnels", path: &["proof", "alternatives", "passwords"], key: "source", with: &[] },
    Around { section: "tunnels", path: &["offers", "algorithms"], key: "name", with: &[] },
    Around { section: "services", path: &["offers", "algorithms"], key: "name", with: &[] },
    Around { section: "logins", path: &["list"], key: "local-file", with: &[] },
    Around { section: "tunnels", path: &["policy", "client-kinds"], key: "name", with: &[] },
];

/// Keys with another name in sheets: section, the sheet's key, and that of the fact.
pub(super) const RENAMED: [(&str, &str, &str); 4] = [
    ("ppp-profiles", "service", "path"),
    ("certificates", "name", "file"),
    ("certificates", "valid-from", "not-before"),
    ("certificates", "valid-until", "not-after"),
];

/// Values that stand for what only a program's own configuration has: section, keys that lead to the table, key, and the value.
pub(super) const USUAL: [(&str, &[&str], &str, &str); 11] = [
    // What a page agrees on belongs to its one channel.
    ("services", &["offers"], "part", "control"),
    // A screen with one list has the algorithms of the negotiation.
    ("tunnels", &["offers"], "part", "control"),
    ("services", &[], "program", APPLIANCE),
    ("dhcp-servers", &[], "daemon", APPLIANCE),
    ("log-keepers", &[], "program", APPLIANCE),
    ("clock-keepers", &[], "program", APPLIANCE),
    ("dynamic-names", &[], "program", APPLIANCE),
    ("relays", &[], "program", APPLIANCE),
    ("tunnels", &["ipsec"], "daemon", APPLIANCE),
    ("tunnels", &["offers"], "spelling", "trade"),
    ("services", &["offers"], "spelling", "trade"),
];

/// Brings the shorter forms of a whole sheet into the form of facts.
pub(super) fn expand(top: &mut Node) {
    spread(top);
    let asker = asker(top);
    let known = Known::of(top);
    let Value::Table(sections) = &mut top.value else { return };
    for section in sections {
        let name = std::sync::Arc::clone(&section.key);
        for entry in section.node.each_mut() {
            renamed(&name, entry);
            translated(&name, entry);
            expanded(&name, entry);
            for one in AROUND.iter().filter(|one| one.section == &*name) {
                entry.at(one.path, &mut |node| wrap(one, node));
            }
            for (_, path, key, value) in USUAL.iter().filter(|(section, ..)| *section == &*name) {
                usual(path, key, value, entry);
            }
            match &*name {
                "radius-targets" => usual(&[], "asked-by", asker, entry),
                "logins" => login(entry),
                "permissions" => grantee(entry, &known),
                "tunnels" => tunnel(entry),
                _ => {}
            }
        }
    }
}

/// Adds a value to a table, or to each of a list of tables, that does not state it.
fn usual(path: &[&str], key: &str, value: &str, entry: &mut Node) {
    entry.at(path, &mut |node| {
        for part in node.each_mut() {
            part.fill(key, part.origin, Value::Text(value.into()));
        }
    });
}

/// The kind of client of a RADIUS server that the tunnels of the sheet are.
fn asker(top: &Node) -> &'static str {
    let tunnels = top.get("tunnels").map_or(&[][..], Node::each);
    let asks = |tunnel: &&Node| {
        let passwords = tunnel.get("proof").and_then(|proof| proof.get("passwords"));
        let is_radius = |one: &Node| {
            one.text() == Some("radius") || one.get("source").and_then(Node::text) == Some("radius")
        };
        passwords.is_some_and(|all| all.each().iter().any(is_radius))
    };
    let family = tunnels.iter().find(asks).and_then(|tunnel| tunnel.get("family")).and_then(Node::text);
    match family {
        Some("openvpn") => "openvpn",
        Some("ipsec") => "ike",
        _ => "library",
    }
}

fn renamed(section: &str, entry: &mut Node) {
    let Value::Table(fields) = &mut entry.value else { return };
    for (_, from, to) in RENAMED.iter().filter(|(of, ..)| *of == section) {
        let taken = fields.iter().any(|field| &*field.key == *to);
        if let Some(field) = fields.iter_mut().find(|field| &*field.key == *from && !taken) {
            field.key = (*to).into();
        }
    }
}

/// Places a plain value, or each of a list, in a table.
fn wrap(one: &Around, node: &mut Node) {
    match &mut node.value {
        Value::List(all) => all.iter_mut().for_each(|each| wrap(one, each)),
        // A verifier may have a name of its own: `{ local-list = "accounts" }`.
        Value::Table(fields) if !(one.key == "source" && is_verifier(fields)) => {}
        Value::Text(_) | Value::Table(_) => {
            let origin = node.origin;
            let plain = std::mem::replace(&mut node.value, Value::Truth(true));
            let mut fields = vec![Entry::new(one.key, origin, plain)];
            fields.extend(
                one.with.iter().map(|(key, word)| Entry::new(key, origin, Value::Text((*word).into()))),
            );
            node.value = Value::Table(fields);
        }
        _ => {}
    }
}

/// Whether a table is one of the verifiers of passwords with a name.
fn is_verifier(fields: &[Entry]) -> bool {
    matches!(fields, [only] if matches!(&*only.key, "local-list" | "local-list-and-code" | "pam" | "plug-in"))
}

/// A login without a list is in that of its service; its last day may be a date.
fn login(entry: &mut Node) {
    let origin = entry.origin;
    let Value::Table(fields) = &mut entry.value else { return };
    if !fields.iter().any(|field| &*field.key == "list") {
        let service = fields.iter().find(|field| &*field.key == "service");
        if let Some(service) = service.and_then(|field| field.node.text()) {
            let list = format!("accounts of {service}");
            let list = Value::Table(vec![Entry::new("local-file", origin, Value::Text(list.into()))]);
            fields.push(Entry::new("list", origin, list));
        }
    }
    let expires = fields.iter_mut().find(|field| &*field.key == "expires");
    if let Some(field) = expires
        && let Some(day) = field.node.text().and_then(trevlin_model::written::day)
    {
        let at = field.node.origin;
        field.node.value = Value::Table(vec![Entry::new("day", at, Value::Number(day))]);
    }
}

/// An empty list of DNS servers or domains states that clients are given none.
fn told_to_clients(fields: &mut Vec<Entry>, key: &str, whole: Origin) {
    let plan = fields.iter().find(|field| &*field.key == "addresses");
    let Some(told) = plan.and_then(|plan| plan.node.get(key)) else { return };
    let value = match &told.value {
        Value::List(all) if all.is_empty() => Value::Text("no".into()),
        // What is on no screen is not known.
        Value::Table(marked) if marked.iter().any(|field| &*field.key == "unknown") => told.value.clone(),
        _ => return,
    };
    let stated = Entry::new(key, told.origin, value);
    match fields.iter_mut().find(|field| &*field.key == "policy") {
        Some(policy) => {
            if let Value::Table(rules) = &mut policy.node.value {
                rules.push(stated);
            }
        }
        None => fields.push(Entry::new("policy", whole, Value::Table(vec![stated]))),
    }
}

/// The other end of a tunnel that only encapsulates is a setting of its program.
fn remote(fields: &mut Vec<Entry>) {
    let Some(at) = fields.iter().position(|field| &*field.key == "remote") else { return };
    let remote = fields.remove(at);
    let origin = remote.node.origin;
    let name = Node { origin, value: Value::Text("remote".into()) };
    let one = Node { origin, value: Value::List(vec![name, remote.node]) };
    match fields.iter_mut().find(|field| &*field.key == "settings") {
        Some(settings) => {
            if let Value::List(all) = &mut settings.node.value {
                all.push(one);
            }
        }
        None => fields.push(Entry::new("settings", origin, Value::List(vec![one]))),
    }
}

/// The authorities for clients stand with the tunnel's own certificates.
fn tunnel(entry: &mut Node) {
    let whole = entry.origin;
    let Value::Table(fields) = &mut entry.value else { return };
    // The connection has the name of its tunnel.
    let name = fields
        .iter()
        .find(|field| &*field.key == "name")
        .and_then(|field| field.node.text())
        .map(str::to_owned);
    if let (Some(name), Some(ipsec)) = (name, fields.iter_mut().find(|field| &*field.key == "ipsec")) {
        usual(&[], "name", &name, &mut ipsec.node);
    }
    told_to_clients(fields, "name-servers", whole);
    told_to_clients(fields, "domains", whole);
    remote(fields);
    let Some(at) = fields.iter().position(|field| &*field.key == "client-authorities") else { return };
    let mut authorities = fields.remove(at);
    match fields.iter_mut().find(|field| &*field.key == "certificates") {
        Some(own) => {
            let mut all: Vec<Node> = own.node.each().to_vec();
            all.extend(authorities.node.each().iter().cloned());
            own.node.value = Value::List(all);
        }
        None => {
            authorities.key = "certificates".into();
            fields.push(authorities);
        }
    }
}
