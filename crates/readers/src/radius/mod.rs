//! Files of RADIUS servers and of those that ask them: FreeRADIUS's sections (radiusd.conf(5), clients.conf(5)), its
//! user file (users(5)), and the lists of servers that PAM, the radiusclient library and OpenVPN's plug-in keep.

mod clients;
mod sections;
mod server;
pub(crate) mod targets;
pub(crate) mod users;

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use trevlin_model::Export;

/// The reader for files made of sections.
pub(crate) const READER: Reader = Reader {
    name: "radius",
    title: "RADIUS server: clients, proxies, modules, sites",
    manual: "radiusd.conf(5), clients.conf(5)",
    recognise,
    read,
};

/// Section headings unique to the format, and a word inside.
const TELLING: [(&str, &str); 6] = [
    ("client", "secret"),
    ("home_server", "secret"),
    ("home_server_pool", "home_server"),
    ("eap", "default_eap_type"),
    ("security", "reject_delay"),
    ("server", "authorize"),
];

/// Whether a path is that of a site, a module or a policy in the server's folders (radiusd(8), FILES).
fn by_place(path: &str) -> bool {
    const FOLDERS: [&str; 5] =
        ["sites-available", "sites-enabled", "mods-available", "mods-enabled", "policy.d"];
    let mut parts = path.rsplit('/');
    let name = parts.next().unwrap_or_default();
    let folder = parts.next().unwrap_or_default();
    let server = parts.next().is_some_and(|part| part.starts_with("freeradius") || part.starts_with("raddb"))
        || parts.next().is_some_and(|part| part.starts_with("freeradius") || part.starts_with("raddb"));
    server && FOLDERS.contains(&folder) && !name.starts_with("README") && !name.ends_with('~')
}

fn recognise(export: &Export) -> Recognition {
    let opens = |text: &str, kind: &str| {
        let mut words = text.trim().trim_end_matches('{').split_whitespace();
        words.next() == Some(kind) && text.trim_end().ends_with('{') && words.count() <= 1
    };
    let lines =
        || export.lines().take(TELLING_LINES * 4).map(|line| line.text.split('#').next().unwrap_or_default());
    let telling = TELLING.iter().any(|(kind, inside)| {
        lines().any(|text| opens(text, kind)) && lines().any(|text| text.trim_start().starts_with(inside))
    });
    // A module of the server by its place: one section, under the name of the module.
    let module = || {
        let mut stated = export.lines().map(|line| line.text.split('#').next().unwrap_or_default());
        let first = stated.find(|text| !text.trim().is_empty());
        let folder = ["mods-enabled/", "mods-available/"].iter().any(|folder| export.path().contains(folder));
        let name = export.file_name();
        folder
            && !name.contains('.')
            && first.is_none_or(|text| text.trim_end().ends_with('{') && !text.contains(['<', '(']))
    };
    // Documentation in the folder quotes such sections.
    if export.file_name().starts_with("README") {
        Recognition::No
    } else if telling || module() {
        Recognition::Content
    } else if by_place(export.path())
        || export.file_name() == "clients.conf" && lines().all(|text| !text.starts_with('['))
    {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// Whether a file only waits to be linked into the folder of those in force.
fn is_only_available(export: &Export) -> bool {
    ["mods-available/", "sites-available/"].iter().any(|folder| export.path().contains(folder))
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let file = sections::parse(export, &mut book);
    server::take(export, &file, &mut reading);
    if is_only_available(export) {
        // Its secrets are kept for masking; what it says is not in force.
        let secrets = std::mem::take(&mut reading.facts.secrets);
        *reading.facts = trevlin_model::Facts::default();
        reading.facts.masked_places.extend(secrets.iter().map(|held| held.origin));
        reading.waits = true;
        reading.ledger = Reading::of(export).ledger;
        reading.ledger.set(1, export.line_count(), trevlin_model::LineClass::Ignored);
    }
    reading
}
