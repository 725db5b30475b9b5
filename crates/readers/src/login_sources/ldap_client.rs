//! `ldap.conf`: what programs built on the library of OpenLDAP use where they state nothing else (ldap.conf(5)).

use super::{certificate, server_of};
use crate::keyed::by_blank;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use trevlin_model::login_source::{Admission, LoginSource, LoginSourceUse};
use trevlin_model::served::TransportSecurity;
use trevlin_model::{Export, LineClass, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "ldap-client",
    title: "settings of LDAP clients",
    manual: "ldap.conf(5)",
    recognise: |export| {
        let path = export.path();
        match path.ends_with("ldap/ldap.conf") || path.ends_with("openldap/ldap.conf") {
            true => Recognition::Name,
            false => Recognition::No,
        }
    },
    read: |export, _: &ReadContext<'_>| read(export),
};

fn read(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let (mut uris, mut proof) = (None, None);
    for text in serving::entries(export) {
        let origin = export.origin_of(text);
        let (name, value) = by_blank(text);
        match name.to_ascii_lowercase().as_str() {
            "uri" | "host" => {
                uris = Some((value, origin));
                book.understood(origin);
            }
            "tls_reqcert" => {
                match certificate(Some((value, origin)), "OpenLDAP", "ldap.conf(5), TLS_REQCERT") {
                    found @ Some(_) => {
                        proof = found;
                        book.understood(origin);
                    }
                    None => book.not_understood(origin, "expected never, allow, try, demand or hard"),
                }
            }
            name if serving::is_known("ldap-client", name) => book.class(origin, LineClass::Ignored),
            _ => book.not_understood(origin, serving::unknown("ldap.conf(5)")),
        }
    }
    let stated = uris.map(|one| one.1).or_else(|| proof.as_ref().and_then(|one| one.demanded.origin()));
    let Some(origin) = stated else { return reading };
    let everybody = Setting::default_of(Admission::Everybody, "OpenLDAP", "ldap.conf(5)");
    let mut source = LoginSource::new(
        "OpenLDAP",
        "the LDAP clients of the host",
        LoginSourceUse::Lookups,
        everybody,
        origin,
    );
    if let Some((value, at)) = uris {
        // Programs may start TLS by themselves.
        source.servers.extend(value.split_whitespace().filter_map(|uri| server_of(uri, at)).map(
            |mut server| {
                for carried in [&mut server.accounts, &mut server.passwords].into_iter().flatten() {
                    if *carried == TransportSecurity::Plain {
                        *carried = TransportSecurity::Optional;
                    }
                }
                server
            },
        ));
    }
    source.proofs.extend(proof.or_else(|| certificate(None, "OpenLDAP", "ldap.conf(5), TLS_REQCERT")));
    reading.facts.login_sources.push(source);
    reading
}
