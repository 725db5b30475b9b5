//! `smb.conf` (smb.conf(5)): shares, access, and protocol versions.
//!
//! Case and blanks in names are ignored; the last value wins; a share inherits the settings for shares in `[global]` up to its section;
//! repeated sections of a share are merged.

#[cfg(test)]
mod tests;
mod values;
mod weaknesses;

use values::{Share, Values, get, yes};

use crate::reader::{LineRecorder, Open, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::serving::{self, Admitted, is_known, truth};
use indexmap::IndexMap;
use trevlin_model::offer::{AlgorithmRole, Offer, OfferPart, Offered, Spelling};
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, IpRange, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "smb", title: "SMB server (Samba)", manual: "smb.conf(5)", recognise, read };

/// Synonyms of settings (smb.conf(5), "synonym"), without blanks.
const SYNONYMS: [(&str, &str); 15] = [
    ("public", "guestok"),
    ("onlyguest", "guestonly"),
    ("allowhosts", "hostsallow"),
    ("denyhosts", "hostsdeny"),
    ("directory", "path"),
    ("minprotocol", "serverminprotocol"),
    ("maxprotocol", "servermaxprotocol"),
    ("protocol", "servermaxprotocol"),
    ("smbencrypt", "serversmbencrypt"),
    ("printok", "printable"),
    ("user", "username"),
    ("users", "username"),
    ("browsable", "browseable"),
    ("socketaddress", "nbtclientsocketaddress"),
    ("writable", "writeable"),
];

/// Dialects of the protocol from the oldest (smb.conf(5), server max protocol).
const DIALECTS: [&str; 12] = [
    "CORE", "COREPLUS", "LANMAN1", "LANMAN2", "NT1", "SMB2_02", "SMB2_10", "SMB2_22", "SMB2_24", "SMB3_00",
    "SMB3_02", "SMB3_11",
];

fn recognise(export: &Export) -> Recognition {
    const TELLING: [&str; 8] = [
        "workgroup",
        "guestok",
        "maptoguest",
        "serverrole",
        "readonly",
        "browseable",
        "validusers",
        "netbiosname",
    ];
    let lines = || export.lines().take(TELLING_LINES).map(|line| line.text.trim());
    let global = lines().any(|line| line.eq_ignore_ascii_case("[global]"));
    let tells = || {
        lines().any(|line| {
            line.split_once('=').is_some_and(|(key, _)| TELLING.contains(&squashed(key).as_str()))
        })
    };
    let named = export.file_name() == "smb.conf" || export.path().contains("smb.conf.d/");
    if global && tells() {
        Recognition::Content
    } else if named || (export.path().contains("samba/") && export.file_name().ends_with(".conf")) {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// A name in small letters without its blanks, as the program compares names.
fn squashed(text: &str) -> String {
    text.chars().filter(|letter| !letter.is_whitespace()).flat_map(char::to_lowercase).collect()
}

#[derive(Default)]
struct Loaded {
    global: Values,
    /// The first heading of `[global]`.
    heading: Option<Origin>,
    /// By their names in small letters.
    shares: IndexMap<String, Share>,
    /// The section that statements belong to; `None` for `[global]`.
    current: Option<usize>,
    open: Vec<(String, Origin)>,
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut loaded = Loaded::default();
    load(export, around, &mut loaded, &mut vec![export.path()], &mut book);
    if !around.reads_in(export, included) {
        reading.facts.served.push(served(export, loaded));
    }
    reading
}

/// The exports that a line reads in.
fn included<'a>(line: &str, named_in: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    match line.split_once('=') {
        Some((key, path)) if squashed(key) == "include" => {
            around.find(path.trim(), named_in).into_iter().collect()
        }
        _ => Vec::new(),
    }
}

/// Beginnings of the lines that the program prints before the settings.
const PREAMBLE: [&str; 3] = ["Load smb config files from", "Loaded services file", "Server role:"];

fn load<'a>(
    export: &'a Export,
    around: &ReadContext<'a>,
    loaded: &mut Loaded,
    open: &mut Vec<&'a str>,
    book: &mut LineRecorder<'_>,
) {
    for (text, origin) in logical_lines(export) {
        if let Some(inner) = text.strip_prefix('[') {
            let Some((name, _)) = inner.split_once(']') else {
                book.not_understood(
                    origin,
                    "expected `]` behind the name of the share; the program refuses to start",
                );
                continue;
            };
            book.understood(origin);
            let name = name.split_whitespace().collect::<Vec<_>>().join(" ");
            loaded.current = match name.to_ascii_lowercase().as_str() {
                "global" | "globals" => {
                    loaded.heading.get_or_insert(origin);
                    None
                }
                _ => Some(share(loaded, name, origin)),
            };
            continue;
        }
        // What testparm(1) prints before the settings.
        if loaded.heading.is_none() && PREAMBLE.iter().any(|start| text.starts_with(start)) {
            continue;
        }
        let Some((key, value)) = text.split_once('=') else {
            book.not_understood(origin, "expected `name = value` or `[share]`; the program ignores the line");
            continue;
        };
        let key = squashed(key);
        let key = SYNONYMS.iter().find(|(other, _)| *other == key).map_or(key.as_str(), |(_, name)| *name);
        let value = value.trim().trim_matches('"');
        match key {
            "include" => {
                book.understood(origin);
                include(value, export, around, loaded, open, origin, book);
            }
            "configbackend" | "configfile" | "registryshares"
                if key != "registryshares" || truth(value) == Some(true) =>
            {
                book.understood(origin);
                let question = match key {
                    "configfile" => format!("please provide `{value}`, which contains the settings instead"),
                    _ => "please provide the output of `net conf list`, since further shares are stored in the Samba registry"
                        .to_owned(),
                };
                loaded.open.push((question, origin));
            }
            "copy" => {
                book.understood(origin);
                copy(value, loaded);
            }
            _ if JUDGED.contains(&key) => {
                book.understood(origin);
                let (key, value) = match (key, truth(value)) {
                    // Both say the same, the other way round.
                    ("writeable" | "writeok", Some(yes)) => {
                        ("readonly", if yes { "no" } else { "yes" }.to_owned())
                    }
                    _ => (key, value.to_owned()),
                };
                let values = match loaded.current {
                    Some(at) => &mut loaded.shares[at].values,
                    None => &mut loaded.global,
                };
                values.insert(key.to_owned(), (value.into(), origin));
            }
            _ if key.contains(':') || is_known("smb", key) => book.class(origin, LineClass::Ignored),
            _ => book.not_understood(origin, serving::unknown("smb.conf(5)")),
        }
    }
}

/// Settings that are judged, under their main name.
const JUDGED: [&str; 40] = [
    "lanmanauth",
    "ntlmauth",
    "nullpasswords",
    "encryptpasswords",
    "serverschannel",
    "allowinsecurewidelinks",
    "widelinks",
    "unixextensions",
    "domainlogons",
    "security",
    "guestok",
    "guestonly",
    "guestaccount",
    "hostsallow",
    "hostsdeny",
    "path",
    "serverminprotocol",
    "servermaxprotocol",
    "serversmbencrypt",
    "serversigning",
    "readonly",
    "writeable",
    "writeok",
    "writelist",
    "readlist",
    "validusers",
    "invalidusers",
    "adminusers",
    "forceuser",
    "maptoguest",
    "restrictanonymous",
    "interfaces",
    "bindinterfacesonly",
    "smbports",
    "printable",
    "available",
    "serverrole",
    "username",
    "netbiosname",
    "disablenetbios",
];

/// Lines with their continuations after a backslash; comments and empty lines are left out.
fn logical_lines(export: &Export) -> Vec<(String, Origin)> {
    let mut found: Vec<(String, Origin)> = Vec::new();
    let mut joined = false;
    for line in export.lines() {
        let text = line.text.trim();
        let continues = text.ends_with('\\');
        let body = text.trim_end_matches('\\').trim_end();
        let origin = export.origin_of(text);
        if joined {
            if let Some((last, at)) = found.last_mut() {
                last.push(' ');
                last.push_str(body);
                at.end = origin.end.max(at.end);
            }
        } else if !text.is_empty() && !text.starts_with(['#', ';']) {
            found.push((body.to_owned(), origin));
        } else {
            // A comment goes on as well.
            joined = continues && !text.is_empty();
            if joined {
                found.push((String::new(), origin));
            }
            continue;
        }
        joined = continues;
    }
    found.retain(|(text, _)| !text.is_empty());
    found
}

/// The share of this name; a new one inherits the settings for shares in `[global]` so far.
fn share(loaded: &mut Loaded, name: String, origin: Origin) -> usize {
    let entry = loaded.shares.entry(name.to_ascii_lowercase());
    let at = entry.index();
    entry.or_insert_with(|| Share { name, values: loaded.global.clone(), origin });
    at
}

/// Copies the settings of another share.
fn copy(name: &str, loaded: &mut Loaded) {
    let Some(at) = loaded.current else { return };
    let Some(other) = loaded.shares.get(&name.to_ascii_lowercase()) else { return };
    let values = other.values.clone();
    loaded.shares[at].values.extend(values);
}

fn include<'a>(
    path: &str,
    export: &'a Export,
    around: &ReadContext<'a>,
    loaded: &mut Loaded,
    open: &mut Vec<&'a str>,
    origin: Origin,
    book: &mut LineRecorder<'_>,
) {
    if path.eq_ignore_ascii_case("registry") {
        let question = "please provide the output of `net conf list`, since further settings are stored in the Samba registry";
        loaded.open.push((question.into(), origin));
    } else if path.contains('%') {
        let question = format!(
            "please provide every file that `{path}` can stand for, since the included file depends on the client or user"
        );
        loaded.open.push((question, origin));
    } else if let Some(other) = around.find(path, export) {
        if book.may_read_in(origin, other, Open::of(open, other), usize::MAX) {
            open.push(other.path());
            load(other, around, loaded, open, book);
            open.pop();
        }
    } else {
        // A file that is not there is left out by the program too (testparm(1) says so and goes on).
        loaded.open.push((crate::reader::missing_note(path), origin));
        book.note(origin, crate::reader::missing_note(path));
    }
}

fn list(text: &str) -> Vec<&str> {
    text.split([' ', ',', ';', '\t'])
        .map(|word| word.trim_matches('"'))
        .filter(|word| !word.is_empty())
        .collect()
}

fn served(export: &Export, loaded: Loaded) -> Served {
    let global = &loaded.global;
    let first = loaded.shares.first().map(|(_, one)| one.origin);
    let stated = global.values().map(|(_, origin)| *origin).min();
    let origin = loaded.heading.or(stated).or(first).unwrap_or(export.origin(0..0));
    let mut served =
        Served::new(ServedKind::Shares, "Samba", "SMB server (Samba)", &["smbd", "samba", "smb"], origin);
    served.endpoints = endpoints(global, origin);
    served.offers.push(dialects(global, origin));
    served.open = loaded.open;
    let mut known = Admitted::default();
    let whole = sources(global, &mut known).unwrap_or_else(Sources::everybody);
    for share in loaded.shares.values() {
        let printer = yes(&share.values, "printable").is_some_and(|(yes, _)| yes);
        let off = yes(&share.values, "available").is_some_and(|(yes, _)| !yes);
        if !printer && !off && !share.name.eq_ignore_ascii_case("ipc$") {
            served.parts.push(part(share, global, &whole, &mut known));
        }
    }
    served.weaknesses = weaknesses::of(global, loaded.shares.values());
    served
}

/// Where it listens: everywhere, unless it is bound to the interfaces that are named.
fn endpoints(global: &Values, origin: Origin) -> Vec<Endpoint> {
    let ports: Vec<u16> = match get(global, "smbports") {
        Some((text, _)) => list(text).iter().filter_map(|port| port.parse().ok()).collect(),
        None if yes(global, "disablenetbios").is_some_and(|(yes, _)| yes) => vec![445],
        None => vec![445, 139],
    };
    let bound = yes(global, "bindinterfacesonly").is_some_and(|(yes, _)| yes);
    let named = get(global, "interfaces").filter(|_| bound);
    let mut found = Vec::new();
    for port in ports {
        let at = |origin| Endpoint::everywhere(Protocol::TCP, port, TransportSecurity::Optional, origin);
        let Some((names, line)) = named else {
            found.push(at(get(global, "smbports").map_or(origin, |one| one.1)));
            continue;
        };
        for name in list(names) {
            let host = name.split(['/', ';']).next().unwrap_or(name);
            match host.parse() {
                Ok(address) => found.push(at(line).at(address)),
                Err(_) => found.push(Endpoint { interface: Some(host.to_owned()), ..at(line) }),
            }
        }
    }
    found
}

/// Protocol versions from the lowest to the highest permitted. Short names refer to the newest of their generation.
fn dialects(global: &Values, origin: Origin) -> Offer {
    let place = |name: &str, lowest: bool| {
        let name = name.to_ascii_uppercase();
        let name = match (name.as_str(), lowest) {
            ("SMB2", _) => "SMB2_10",
            ("SMB3", true) => "SMB3_00",
            ("SMB3", false) | ("DEFAULT", false) => "SMB3_11",
            ("DEFAULT", true) => "SMB2_02",
            (other, _) => other,
        };
        DIALECTS.iter().position(|known| *known == name)
    };
    let low = get(global, "serverminprotocol");
    let high = get(global, "servermaxprotocol");
    let first = low.and_then(|(name, _)| place(name, true)).unwrap_or(5);
    let last = high.and_then(|(name, _)| place(name, false)).unwrap_or(DIALECTS.len() - 1);
    let offered = |name: &&str| Offered {
        name: (*name).to_owned(),
        role: Some(AlgorithmRole::Protocol),
        versions: None,
        suite: 0,
        origin: low.map_or(origin, |one| one.1),
        default: low.is_none().then_some("smb.conf(5), server min protocol: SMB2_02 since Samba 4.11"),
    };
    Offer {
        part: OfferPart::Control,
        spelling: Spelling::Smb,
        algorithms: DIALECTS.iter().take(last + 1).skip(first).map(offered).collect(),
        own_order: false,
        open: None,
        origin: low.map_or(origin, |one| one.1),
    }
}

/// Clients admitted by `hosts allow` and `hosts deny`; the device itself is always admitted, which is not considered.
fn sources(values: &Values, known: &mut Admitted) -> Option<Sources> {
    known.by(["hostsallow", "hostsdeny"].map(|key| get(values, key).map(|(text, _)| text)), || {
        let of = |key| {
            get(values, key).map(|(text, origin)| (hosts(text), origin)).filter(|(list, _)| !list.is_nobody())
        };
        let (allow, deny) = (of("hostsallow"), of("hostsdeny"));
        (allow.is_some() || deny.is_some()).then(|| serving::admitted(allow, deny))
    })
}

/// The addresses of a list, without those behind `EXCEPT`.
fn hosts(text: &str) -> Sources {
    let mut words = list(text).into_iter();
    let mut found = Sources::default();
    for word in words.by_ref().take_while(|word| !word.eq_ignore_ascii_case("EXCEPT")) {
        serving::host(word, &mut found);
    }
    let mut gone = Sources::default();
    words.for_each(|word| serving::host(word, &mut gone));
    let except: Vec<IpRange> = gone.ranges;
    found.without(&except)
}

fn part(share: &Share, global: &Values, whole: &Sources, known: &mut Admitted) -> ServiceResource {
    let values = &share.values;
    let mut part = ServiceResource::new(PartKind::Share, share.name.clone(), share.origin);
    part.path = get(values, "path").map(|(path, _)| path.to_owned());
    part.sources = match sources(values, known) {
        Some(own) => serving::of_both(&own, whole),
        None => serving::handed_on(whole),
    };
    let guest = get(global, "guestaccount").map_or("nobody", |(name, _)| name);
    // Each share has its own users, also where its list is copied from another: beyond the limit any user may be among them.
    let valid: Vec<String> = get(values, "validusers")
        .filter(|(text, _)| crate::growth::may_grow(8 * text.len()))
        .map_or_else(Vec::new, |(text, _)| list(text).iter().map(|one| (*one).to_owned()).collect());
    let has = |key: &str, name: &str| get(values, key).is_some_and(|(text, _)| list(text).contains(&name));
    // A guest who is not among the valid users, or among the others, does not come in.
    let guests_valid =
        (valid.is_empty() || valid.iter().any(|name| name == guest)) && !has("invalidusers", guest);
    // The server accepts any user who connects to a guest-only share, whatever `guest ok` states there.
    let on = |key| yes(values, key).filter(|(yes, _)| *yes);
    let guests = on("guestok").or_else(|| on("guestonly")).filter(|_| guests_valid);
    part.login = match (guests, yes(values, "guestok")) {
        (Some((_, origin)), _) => Setting::Stated { value: AuthRequirement::Nothing, origin },
        (None, Some((_, origin))) => Setting::Stated { value: AuthRequirement::Proof, origin },
        (None, None) => Setting::default_of(AuthRequirement::Proof, "Samba", "smb.conf(5), guest ok"),
    };
    let mine = |list_of: &str| {
        get(values, list_of)
            .filter(|(text, _)| list(text).iter().any(|name| guests.is_some() && *name == guest))
            .map(|(_, origin)| origin)
    };
    part.writes = match (mine("writelist"), mine("readlist"), yes(values, "readonly")) {
        (Some(origin), ..) => Setting::Stated { value: true, origin },
        (None, Some(origin), _) => Setting::Stated { value: false, origin },
        (None, None, Some((read_only, origin))) => Setting::Stated { value: !read_only, origin },
        (None, None, None) => Setting::default_of(false, "Samba", "smb.conf(5), read only"),
    };
    part.users = valid;
    part.encryption = Some(match get(values, "serversmbencrypt") {
        Some((word, origin)) => Setting::Stated { value: demand(word, "required"), origin },
        None => Setting::default_of(Requirement::Offered, "Samba", "smb.conf(5), server smb encrypt"),
    });
    part.signing = Some(match get(global, "serversigning") {
        Some((word, origin)) => Setting::Stated { value: demand(word, "mandatory"), origin },
        None => Setting::default_of(Requirement::Offered, "Samba", "smb.conf(5), server signing"),
    });
    let forced = get(values, "forceuser").filter(|(name, _)| *name == "root");
    let admin = get(values, "adminusers").filter(|(text, _)| list(text).contains(&guest));
    part.remarks.extend(forced.or(admin).map(|(_, origin)| (Remark::RootKept, origin)));
    part
}

fn demand(word: &str, required: &str) -> Requirement {
    match word.to_ascii_lowercase().as_str() {
        "required" | "mandatory" | "force" | "forced" | "enforced" => Requirement::Required,
        "off" | "disabled" | "no" | "false" | "0" => Requirement::Never,
        other if other == required => Requirement::Required,
        _ => Requirement::Offered,
    }
}
