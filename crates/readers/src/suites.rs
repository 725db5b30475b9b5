//! Default algorithms of each program: a table, by version.

use serde::Deserialize;
use trevlin_model::Origin;
use trevlin_model::offer::{Offered, Spelling};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    suites: Vec<Row>,
}

#[derive(Deserialize)]
struct Row {
    program: String,
    part: String,
    versions: String,
    source: String,
    suites: Vec<String>,
}

trevlin_model::table! { static TABLE: Table = "../tables/suites.toml"; }

fn program(spelling: Spelling) -> &'static str {
    match spelling {
        Spelling::OpenVpn => "openvpn",
        Spelling::StrongSwan => "strongswan",
        Spelling::Libreswan => "libreswan",
        Spelling::WireGuard => "wireguard",
        Spelling::GnuTls => "gnutls",
        Spelling::OpenSsl
        | Spelling::OpenSsh
        | Spelling::Smb
        | Spelling::NetSnmp
        | Spelling::Kerberos
        | Spelling::Trade => "",
    }
}

/// The default algorithms of a program for one part, with the lines of `origin`; suites are numbered from `first`.
pub(crate) fn defaults(spelling: Spelling, part: &str, origin: Origin, first: usize) -> Vec<Offered> {
    let mut found = Vec::new();
    let rows = TABLE.suites.iter().filter(|row| row.program == program(spelling) && row.part == part);
    for row in rows {
        for (number, suite) in row.suites.iter().enumerate() {
            for name in suite.split(' ') {
                found.push(Offered {
                    name: name.to_owned(),
                    role: None,
                    versions: Some(row.versions.as_str()).filter(|versions| !versions.is_empty()),
                    suite: first + number,
                    origin,
                    default: Some(row.source.as_str()),
                });
            }
        }
    }
    found
}
