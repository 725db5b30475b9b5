//! `nrpe.cfg`: hosts that may start the checks of a device, and whether they may hand arguments to them.
//!
//! Format: the comments of the file that ships with NRPE, and its README.

use crate::files::hosts_access;
use crate::keyed::{self, Form, by_equals};
use crate::reader::{ReadContext, Reader, Reading, Recognition};
use crate::serving;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "nrpe",
    title: "monitoring agent (NRPE)",
    manual: "the README of NRPE",
    recognise: |export| {
        let folder = export.path().contains("/nrpe.d/") || export.path().contains("/nrpe.cfg.d/");
        match export.file_name() {
            "nrpe.cfg" | "nrpe_local.cfg" => Recognition::Name,
            name if folder && name.ends_with(".cfg") => Recognition::Name,
            _ => Recognition::No,
        }
    },
    read,
};

const FORM: Form = Form {
    program: "nrpe",
    manual: "nrpe.cfg",
    judged: &[
        "allow_bash_command_substitution",
        "allowed_hosts",
        "dont_blame_nrpe",
        "include",
        "include_dir",
        "include_file",
        "server_address",
        "server_port",
        "ssl_client_certs",
    ],
    split,
    included: Some(included),
};

/// Name and value; a command is named in brackets.
fn split(text: &str) -> (&str, &str) {
    match by_equals(text) {
        (name, value) if name.starts_with("command[") && name.ends_with(']') => ("command", value),
        both => both,
    }
}

fn included<'a>(line: &str, named_in: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    match by_equals(line.trim()) {
        ("include" | "include_file", path) => around.find_all(path, named_in),
        ("include_dir", path) => around.find_all(&format!("{}/*.cfg", path.trim_end_matches('/')), named_in),
        _ => Vec::new(),
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut entries = keyed::load(export, &FORM, around, &mut reading);
    if around.reads_in(export, included) || around.has_main(&["nrpe.cfg"], export) {
        return reading;
    }
    // Packaged files name a local one that need not exist, and folders may be empty.
    entries.open.clear();
    let origin = entries.origin(export);
    let (port, line) = entries.number("server_port").unwrap_or((5666, origin));
    let mut served = Served::new(
        ServedKind::Agents,
        "NRPE",
        "monitoring agent (NRPE)",
        &["nagios-nrpe-server", "nrpe"],
        origin,
    );
    // Whether TLS is used is an option of its command line, and on by default (nrpe(8), -n).
    let start = ["/etc/default/nagios-nrpe-server", "/etc/sysconfig/nrpe"]
        .into_iter()
        .find_map(|path| around.find(path, export));
    let bare = start.and_then(|file| {
        let line = serving::entries(file).find(|text| {
            let (_, value) = by_equals(text);
            serving::unquoted(value).split_whitespace().any(|word| matches!(word, "-n" | "--no-ssl"))
        })?;
        Some(file.origin_of(line))
    });
    let carried = if bare.is_some() { TransportSecurity::Plain } else { TransportSecurity::Encrypted };
    let mut place = Endpoint::everywhere(Protocol::TCP, port, carried, line);
    if let Some((host, line)) = entries.last("server_address") {
        place = host.parse().map_or(place.clone(), |address| Endpoint { origin: line, ..place.at(address) });
    }
    served.endpoints.push(place);
    let mut part = ServiceResource::new(PartKind::Whole, served.name.clone(), line);
    // Each line adds hosts.
    let mut sources = Sources::default();
    for entry in entries.of("allowed_hosts") {
        sources.origins.push(entry.origin);
        for host in entry.value.split(',').map(str::trim).filter(|host| !host.is_empty()) {
            // The program compares with a mask of 32 bits where a prefix has none, so that no client fits.
            if !host.ends_with("/0") {
                serving::host(host, &mut sources);
            }
        }
    }
    if !sources.origins.is_empty() {
        part.sources = sources;
    }
    let certificates = entries.last("ssl_client_certs").filter(|one| one.0 == "2" && bare.is_none());
    part.login = match certificates {
        Some((_, origin)) => Setting::Stated { value: AuthRequirement::Certificate, origin },
        None => Setting::Stated {
            value: AuthRequirement::Nothing,
            origin: part.sources.origins.first().copied().unwrap_or(line),
        },
    };
    part.encryption = Some(match bare {
        Some(origin) => Setting::Stated { value: Requirement::Never, origin },
        None => Setting::default_of(Requirement::Required, "NRPE", "nrpe(8), -n"),
    });
    let on = |name: &str| entries.last(name).filter(|one| one.0 == "1").map(|one| one.1);
    if let Some(line) = on("dont_blame_nrpe") {
        // Debian's package is built without arguments, that of Fedora's with them (README of NRPE, `--enable-command-args`).
        match start.map(Export::file_name) {
            Some("nagios-nrpe-server") => {}
            Some(_) => {
                part.writes = Setting::Stated { value: true, origin: line };
                part.remarks.push((Remark::Commands, on("allow_bash_command_substitution").unwrap_or(line)));
            }
            None => {
                part.writes =
                    Setting::Unknown { why: "the program may be built without arguments of commands".into() };
            }
        }
    }
    served.parts.push(part);
    hosts_access::limit(std::slice::from_mut(&mut served), around, export, "nrpe");
    reading.facts.served.push(served);
    reading
}
