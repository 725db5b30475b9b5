//! The servers of a realm of Kerberos: `kdc.conf` of the ticket server, and `kadm5.acl` of its administration (kdc.conf(5), kadm5.acl(5)).

use super::first_line;
use super::kerberos::{kinds, offer};
use super::profile::{self, Profile};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use std::net::IpAddr;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Served, ServedKind, ServiceResource, ServiceWeakness,
    TransportSecurity,
};
use trevlin_model::{Export, Origin, Protocol, Setting};

/// Settings of the ticket server.
pub(crate) const READER: Reader = Reader {
    name: "kdc",
    title: "ticket server (Kerberos)",
    manual: "kdc.conf(5)",
    recognise: |export| match export.file_name() {
        "kdc.conf" => Recognition::Name,
        _ => Recognition::No,
    },
    read,
};

/// Rights of administrators.
pub(crate) const RIGHTS: Reader = Reader {
    name: "kadmin-rights",
    title: "rights of administrators (Kerberos)",
    manual: "kadm5.acl(5)",
    recognise: |export| match export.file_name() {
        "kadm5.acl" => Recognition::Name,
        _ => Recognition::No,
    },
    read: read_rights,
};

/// Relations that become facts.
const JUDGED: [&str; 13] = [
    "acl_file",
    "default_principal_flags",
    "default_realm",
    "kadmind_listen",
    "kadmind_port",
    "kdc_listen",
    "kdc_ports",
    "kdc_tcp_listen",
    "kdc_tcp_ports",
    "kpasswd_listen",
    "kpasswd_port",
    "supported_enctypes",
    "admin_server",
];

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    profile::record(export, &JUDGED, &mut book);
    let general = around.find("/etc/krb5.conf", export);
    let files: Vec<&Export> = [Some(export), general].into_iter().flatten().collect();
    let profile = profile::load(&files, around);
    let refused = profile.fault.map(|(line, why)| (why.to_owned(), line));
    for realm in realms(&profile) {
        let all = [Some(tickets(export, &profile, realm)), administration(export, around, &profile, realm)];
        for mut served in all.into_iter().flatten() {
            served.refused = refused.clone().or(served.refused);
            reading.facts.served.push(served);
        }
    }
    reading
}

/// The realm that is served: the default one, or where it is not stated each that has a block; without any the server has its defaults.
fn realms(profile: &Profile) -> Vec<Option<&str>> {
    let default = profile.first(&["libdefaults"], "default_realm").map(|one| one.0);
    let blocks = profile.blocks("realms");
    match default {
        Some(name) => vec![Some(name)],
        None if blocks.is_empty() => vec![None],
        None => blocks.into_iter().map(Some).collect(),
    }
}

/// A relation of the realm, or of all of them.
fn of_realm<'a>(profile: &'a Profile, realm: Option<&str>, names: &[&str]) -> Option<(&'a str, Origin)> {
    let stated = |within: &[&str]| names.iter().find_map(|name| profile.first(within, name));
    realm.and_then(|realm| stated(&["realms", realm])).or_else(|| stated(&["kdcdefaults"]))
}

fn named(what: &str, realm: Option<&str>) -> String {
    realm.map_or_else(|| what.to_owned(), |realm| format!("{what} of {realm}"))
}

fn tickets(export: &Export, profile: &Profile, realm: Option<&str>) -> Served {
    let own = realm.and_then(|realm| profile.of_block("realms", realm).find(|one| one.name != "kdc"));
    let origin = own.map_or_else(|| first_line(export), |one| one.origin);
    let mut served = Served::new(
        ServedKind::Directory,
        "krb5kdc",
        named("Kerberos server", realm),
        &["krb5-kdc", "krb5kdc"],
        origin,
    )
    .labelled(realm.unwrap_or_default());
    for (names, protocol) in
        [(["kdc_listen", "kdc_ports"], Protocol::UDP), (["kdc_tcp_listen", "kdc_tcp_ports"], Protocol::TCP)]
    {
        let stated = of_realm(profile, realm, &names);
        served.endpoints.extend(places(stated, protocol, 88, origin));
    }
    if let Some((list, at)) = of_realm(profile, realm, &["supported_enctypes"]) {
        // Each kind has a salt behind it, and weak ones are made whatever clients may use.
        let words: Vec<&str> =
            list.split([' ', '\t', ',']).map(|word| word.split(':').next().unwrap_or_default()).collect();
        served.offers.push(offer(kinds(&words.join(" "), true), at));
    }
    let flags = of_realm(profile, realm, &["default_principal_flags"]);
    match flags {
        Some((flags, _)) if preauthenticates(flags) => {}
        Some((_, at)) => served.weaknesses.push((ServiceWeakness::NoPreauthentication, at)),
        None => served.weaknesses.push((ServiceWeakness::NoPreauthentication, origin)),
    }
    served
}

/// Whether accounts are made with the flag that demands a proof of the password before any ticket; without a sign a flag is set.
fn preauthenticates(flags: &str) -> bool {
    let mut on = false;
    for word in flags.split([',', ' ', '\t']).filter(|word| !word.is_empty()) {
        let (sign, name) = match word.strip_prefix('-') {
            Some(rest) => (false, rest),
            None => (true, word.strip_prefix('+').unwrap_or(word)),
        };
        match name.to_ascii_lowercase().replace('_', "-").as_str() {
            "preauth" | "requires-pre-auth" | "requires-preauth" => on = sign,
            _ => {}
        }
    }
    on
}

/// Where a server listens, by a list of ports, addresses, or both; an empty list switches it off, and none means its usual port.
fn places(stated: Option<(&str, Origin)>, protocol: Protocol, usual: u16, origin: Origin) -> Vec<Endpoint> {
    let everywhere = |port, at| Endpoint::everywhere(protocol, port, TransportSecurity::Encrypted, at);
    let Some((list, at)) = stated else { return vec![everywhere(usual, origin)] };
    let word = |word: &str| -> Option<Endpoint> {
        if let Ok(port) = word.parse() {
            return Some(everywhere(port, at));
        }
        let (host, port) = serving::host_and_port(word);
        let place = everywhere(port.unwrap_or(usual), at);
        match host?.parse::<IpAddr>() {
            Ok(address) => Some(place.at(address)),
            Err(_) => Some(place),
        }
    };
    list.split([' ', '\t', ',']).filter(|word| !word.is_empty()).filter_map(word).collect()
}

/// The server by which accounts are managed and passwords changed, with the rights that its list gives to ordinary accounts.
fn administration(
    export: &Export,
    around: &ReadContext<'_>,
    profile: &Profile,
    realm: Option<&str>,
) -> Option<Served> {
    let stated = of_realm(profile, realm, &["acl_file"]);
    let path = stated.map_or("/etc/krb5kdc/kadm5.acl", |one| one.0);
    let list = around.find(path, export).or_else(|| around.find("/var/kerberos/krb5kdc/kadm5.acl", export));
    if list.is_none() && stated.is_none() {
        return None;
    }
    let origin = stated.map_or_else(|| first_line(export), |one| one.1);
    let mut served = Served::new(
        ServedKind::Directory,
        "kadmind",
        named("Kerberos administration", realm),
        &["krb5-admin-server", "kadmin"],
        origin,
    )
    .labelled(realm.unwrap_or_default());
    // A port that clients are told counts before that of the server itself.
    let told = of_realm(profile, realm, &["admin_server"])
        .and_then(|(place, at)| Some((serving::host_and_port(place).1?, at)));
    for (list, port, usual, protocols) in [
        ("kadmind_listen", "kadmind_port", 749, &[Protocol::TCP][..]),
        ("kpasswd_listen", "kpasswd_port", 464, &[Protocol::TCP, Protocol::UDP]),
    ] {
        let own =
            of_realm(profile, realm, &[port]).and_then(|(port, at)| Some((port.parse::<u16>().ok()?, at)));
        let (usual, at) = told.filter(|_| usual == 749).or(own).unwrap_or((usual, origin));
        for protocol in protocols {
            served.endpoints.extend(places(of_realm(profile, realm, &[list]), *protocol, usual, at));
        }
    }
    let realm = realm.unwrap_or_default();
    match list {
        Some(list) => {
            let faulty = serving::entries(list).find(|text| rule(text, list.origin_of(text)).is_none());
            served.refused = faulty
                .map(|text| ("a line of its list of rights is faulty".to_owned(), list.origin_of(text)));
            served.parts.extend(rights(list, realm));
        }
        None if path.is_empty() => {}
        None => {
            served.parts.push(entries(realm, origin));
            let ask = format!("please provide `{path}`, which states who may manage accounts");
            served.open.push((ask, origin));
        }
    }
    Some(served)
}

/// Accounts of a realm, for those with a login.
fn entries(realm: &str, origin: Origin) -> ServiceResource {
    let name = if realm.is_empty() { "the realm" } else { realm };
    let mut part = ServiceResource::new(PartKind::Entries, name, origin);
    part.login = Setting::Stated { value: AuthRequirement::Proof, origin };
    part
}

/// A line of the list.
struct Rule<'a> {
    who: &'a str,
    rights: &'a str,
    target: Option<&'a str>,
    origin: Origin,
}

/// A line with its rule; nothing for a line that kadmind does not start with.
fn rule(text: &str, origin: Origin) -> Option<Rule<'_>> {
    /// Letters of rights, in capitals for those that are taken away.
    const LETTERS: &str = "acdeilmpsx*";
    /// Restrictions that have a value behind them.
    const WITH_VALUE: [&str; 5] = ["-policy", "-expire", "-pwexpire", "-maxlife", "-maxrenewlife"];
    let mut words = text.split_whitespace();
    let (who, rights) = (words.next()?, words.next()?);
    let target = words.next();
    if !rights.chars().all(|letter| LETTERS.contains(letter.to_ascii_lowercase())) {
        return None;
    }
    while let Some(word) = words.next() {
        // A comment behind a rule is none.
        if WITH_VALUE.contains(&word) {
            words.next()?;
        } else if !word.starts_with(['-', '+']) {
            return None;
        }
    }
    Some(Rule { who, rights, target, origin })
}

fn read_rights(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for text in serving::entries(export) {
        let origin = export.origin_of(text);
        match rule(text, origin) {
            Some(_) => book.understood(origin),
            None => book.not_understood(
                origin,
                "expected `principal rights [target [restrictions]]`: kadmind does not start",
            ),
        }
    }
    reading
}

/// Rights of any account of a realm: the first line that means them and a target decides.
fn rights(list: &Export, realm: &str) -> Vec<ServiceResource> {
    let mut found = Vec::new();
    let all = serving::entries(list).filter_map(|text| rule(text, list.origin_of(text)));
    let mut last = None;
    for rule in all {
        last = Some(rule.origin);
        if !means_everybody(rule.who, realm) {
            continue;
        }
        let has = |letter: char| {
            let all = rule.rights.contains(['x', '*']) && letter != 'e';
            (all || rule.rights.contains(letter)) && !rule.rights.contains(letter.to_ascii_uppercase())
        };
        let own = rule.target.is_some_and(|target| target.starts_with("*1"));
        let part = |kind: PartKind| {
            let mut part = entries(rule.target.filter(|target| *target != "*").unwrap_or(realm), rule.origin);
            part.kind = kind;
            part.users = vec!["any user of the realm".to_owned()];
            part
        };
        if !own && "acdms".chars().any(has) {
            let mut part = part(PartKind::Entries);
            part.writes = Setting::Stated { value: true, origin: rule.origin };
            found.push(part);
        }
        if !own && has('e') {
            found.push(part(PartKind::PasswordHashes));
        }
        if rule.target.is_none_or(|target| target == "*") {
            break;
        }
    }
    // What holds for named administrators alone is no right of all.
    if !found.iter().any(|part| part.kind == PartKind::Entries) {
        let origin = last.unwrap_or_else(|| list.origin(0..0));
        found.push(entries(realm, origin));
    }
    found
}

/// Whether a principal of a rule means every ordinary account of a realm: a star for its only component.
fn means_everybody(who: &str, realm: &str) -> bool {
    let (name, of) = who.rsplit_once('@').unwrap_or((who, realm));
    name == "*" && (of == "*" || of == realm || realm.is_empty())
}
