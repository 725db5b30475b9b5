//! `zabbix_agentd.conf`: hosts that a monitoring agent answers, and whether it runs commands for them.
//!
//! Format: the manual of Zabbix, appendix "Zabbix agent (UNIX)", and the comments of the file that ships with it.

use crate::keyed::{self, Entries, Form, by_equals};
use crate::reader::{ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, truth};
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "zabbix-agent",
    title: "monitoring agent (Zabbix)",
    manual: "the manual of Zabbix, zabbix_agentd.conf",
    recognise: |export| {
        let folder =
            ["/zabbix_agentd.conf.d/", "/zabbix_agentd.d/", "/zabbix_agent2.d/", "/zabbix_agent2.conf.d/"];
        match export.file_name() {
            "zabbix_agentd.conf" | "zabbix_agent2.conf" => Recognition::Name,
            name if name.ends_with(".conf") && folder.iter().any(|folder| export.path().contains(folder)) => {
                Recognition::Name
            }
            _ => Recognition::No,
        }
    },
    read,
};

const FORM: Form = Form {
    program: "zabbix-agent",
    manual: "the manual of Zabbix",
    judged: &[
        "allowkey",
        "denykey",
        "enableremotecommands",
        "include",
        "listenip",
        "listenport",
        "server",
        "startagents",
        "tlsaccept",
        "unsafeuserparameters",
    ],
    split: by_equals,
    included: Some(included),
};

fn included<'a>(line: &str, named_in: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    match by_equals(line.trim()) {
        ("Include", path) => {
            // A folder alone means every file in it.
            let found = around.find_all(path, named_in);
            if found.is_empty() {
                around.find_all(&format!("{}/*", path.trim_end_matches('/')), named_in)
            } else {
                found
            }
        }
        _ => Vec::new(),
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut entries = keyed::load(export, &FORM, around, &mut reading);
    if around.reads_in(export, included) {
        return reading;
    }
    // A folder of which nothing was exported may be empty.
    entries.open.retain(|(_, line)| {
        let text = export.text().get(line.start as usize..line.end as usize).unwrap_or_default();
        text.trim_end_matches('/').rsplit('/').next().is_some_and(|name| name.ends_with(".conf"))
    });
    let origin = entries.origin(export);
    let mut served = Served::new(
        ServedKind::Agents,
        "Zabbix",
        "monitoring agent (Zabbix)",
        &["zabbix-agent", "zabbix-agent2"],
        origin,
    );
    served.open.clone_from(&entries.open);
    if entries.last("StartAgents").is_some_and(|(value, _)| value == "0") {
        return reading;
    }
    // A parameter of one value that is given twice keeps the agent from starting.
    const ONCE: [&str; 4] = ["Server", "ListenIP", "ListenPort", "TLSAccept"];
    let twice = ONCE.into_iter().find(|name| entries.of(name).count() > 1);
    served.refused = twice.and_then(|name| {
        Some((format!("`{name}` is set twice, and the agent does not start"), entries.last(name)?.1))
    });
    // Without it the agent does not start.
    let Some((hosts, line)) = entries.last("Server").filter(|one| !one.0.is_empty()) else { return reading };
    let (port, at) = entries.number("ListenPort").unwrap_or((10050, line));
    let places = entries.last("ListenIP").map_or(vec![("0.0.0.0", at)], |(list, line)| {
        list.split(',').map(|host| (host.trim(), line)).collect()
    });
    let everywhere = entries.last("ListenIP").is_none_or(|one| one.0.is_empty());
    let accepted: Vec<&str> = entries
        .last("TLSAccept")
        .map_or(vec!["unencrypted"], |(list, _)| list.split(',').map(str::trim).collect());
    let (plain, tls) =
        (accepted.contains(&"unencrypted"), accepted.len() > 1 || !accepted.contains(&"unencrypted"));
    let carried = match (plain, tls) {
        (true, false) => TransportSecurity::Plain,
        (true, true) => TransportSecurity::Optional,
        (false, _) => TransportSecurity::Encrypted,
    };
    for (host, line) in places {
        let place = Endpoint::everywhere(Protocol::TCP, port, carried, line);
        match host.parse() {
            _ if everywhere => served.endpoints.push(place),
            Ok(address) => served.endpoints.push(place.at(address)),
            Err(_) => {}
        }
    }
    let mut sources = Sources { origins: vec![line], ..Sources::default() };
    for host in hosts.split(',').map(str::trim) {
        match host {
            "::/0" => sources.ranges.extend(Sources::everybody().ranges),
            host => serving::host(host, &mut sources),
        }
    }
    let accept_line = entries.last("TLSAccept").map_or(line, |one| one.1);
    let mut part = ServiceResource::new(PartKind::Whole, served.name.clone(), line);
    part.sources = sources;
    part.login = Setting::Stated {
        value: match (plain, accepted.contains(&"psk")) {
            (true, _) => AuthRequirement::Nothing,
            (false, true) => AuthRequirement::Proof,
            (false, false) => AuthRequirement::Certificate,
        },
        origin: accept_line,
    };
    part.encryption = Some(Setting::Stated {
        value: match carried {
            TransportSecurity::Plain => Requirement::Never,
            TransportSecurity::Optional => Requirement::Offered,
            TransportSecurity::Encrypted => Requirement::Required,
        },
        origin: accept_line,
    });
    if let Some(line) = commands(&entries) {
        part.writes = Setting::Stated { value: true, origin: line };
        part.remarks.push((Remark::Commands, line));
    }
    served.parts.push(part);
    reading.facts.served.push(served);
    reading
}

/// The line that permits commands: the first pattern that fits `system.run` decides, and they are denied without one.
fn commands(entries: &Entries<'_>) -> Option<Origin> {
    for entry in &entries.all {
        let permits = match entry.name {
            "AllowKey" => true,
            "DenyKey" => false,
            "EnableRemoteCommands" => truth(entry.value)?,
            _ => continue,
        };
        let fits = entry.name == "EnableRemoteCommands" || means_run(entry.value);
        if fits {
            return permits.then_some(entry.origin);
        }
        // A command among others may be permitted by its own pattern.
        if permits && entry.value.starts_with("system.run[") {
            return Some(entry.origin);
        }
    }
    None
}

/// Whether a pattern of items fits any command.
fn means_run(pattern: &str) -> bool {
    matches!(
        pattern.replace("**", "*").as_str(),
        "*" | "system.run[*]"
            | "system.*"
            | "system.run*"
            | "system.*[*]"
            | "*[*]"
            | "system.run[*,*]"
            | "system.run"
    )
}
