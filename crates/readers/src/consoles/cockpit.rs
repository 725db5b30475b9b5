//! `cockpit.conf`: the console of a server by its pages (cockpit.conf(5), cockpit-tls(8)). The port is that of a socket of systemd.

use crate::ini;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, truth};
use crate::upkeep::socket_units;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource,
    TransportSecurity,
};
use trevlin_model::{Export, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "cockpit",
    title: "console of a server (Cockpit)",
    manual: "cockpit.conf(5)",
    recognise: |export| match export.file_name() {
        "cockpit.conf" => Recognition::Name,
        "disallowed-users" if export.path().contains("cockpit/") => Recognition::Name,
        _ => Recognition::No,
    },
    read,
};

const JUDGED: [&str; 3] = ["allowunencrypted", "clientcertauthentication", "loginto"];

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let settings = export.file_name() == "cockpit.conf";
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    if !settings {
        for text in serving::entries(export) {
            book.understood(export.origin_of(text));
        }
        // The file of settings need not exist, and this one comes with the package.
        if around.find("/etc/cockpit/cockpit.conf", export).is_some() {
            return reading;
        }
    }
    let mut unencrypted = None;
    let mut certificates = None;
    for section in ini::sections(export, &['#', ';']).iter().filter(|_| settings) {
        for entry in &section.entries {
            match entry.key.to_ascii_lowercase().as_str() {
                name if JUDGED.contains(&name) => book.understood(entry.origin),
                name if serving::is_known("cockpit", name) => book.class(entry.origin, LineClass::Ignored),
                _ => book.not_understood(entry.origin, serving::unknown("cockpit.conf(5)")),
            }
            let on = (truth(entry.value) == Some(true)).then_some(entry.origin);
            match entry.key.to_ascii_lowercase().as_str() {
                "allowunencrypted" => unencrypted = on,
                "clientcertauthentication" => certificates = on,
                _ => {}
            }
        }
    }
    let origin = export.origin(0..0);
    reading.facts.served.push(served(unencrypted, certificates, export, around, origin));
    reading
}

fn served(
    unencrypted: Option<Origin>,
    certificates: Option<Origin>,
    export: &Export,
    around: &ReadContext<'_>,
    origin: Origin,
) -> Served {
    let mut served = Served::new(
        ServedKind::Pages,
        "Cockpit",
        "web console (Cockpit)",
        &["cockpit", "cockpit.socket"],
        origin,
    );
    let carried = match unencrypted {
        Some(_) => TransportSecurity::Optional,
        None => TransportSecurity::Encrypted,
    };
    let packaged = vec![Endpoint::everywhere(Protocol::TCP, 9090, carried, origin)];
    served.endpoints = socket_units::listening(around, "cockpit", packaged)
        .into_iter()
        .map(|place| Endpoint { carried, ..place })
        .collect();
    let mut part = ServiceResource::new(PartKind::Page, "/", origin);
    part.writes = Setting::Stated { value: true, origin };
    part.remarks.push((Remark::Administration, origin));
    part.login = match certificates {
        // Passwords are accepted beside certificates (cockpit.conf(5), ClientCertAuthentication).
        Some(origin) => Setting::Stated { value: AuthRequirement::Password, origin },
        None => Setting::default_of(AuthRequirement::Password, "Cockpit", "cockpit-ws(8)"),
    };
    part.encryption = Some(match unencrypted {
        Some(origin) => Setting::Stated { value: Requirement::Offered, origin },
        None => Setting::default_of(Requirement::Required, "Cockpit", "cockpit.conf(5), AllowUnencrypted"),
    });
    if let Some(line) = unencrypted {
        part.remarks.push((Remark::ClearPassword, line));
    }
    if let Some(list) = around.find("/etc/cockpit/disallowed-users", export)
        && !serving::entries(list).any(|user| user == "root")
    {
        served.weaknesses.push((trevlin_model::served::ServiceWeakness::RootLogin, list.origin(0..0)));
    }
    served.parts.push(part);
    served
}
