//! Folders and kinds of files that belong to one program: its formats alone are looked for there.

use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    others: BTreeSet<String>,
    endings: BTreeMap<String, Vec<String>>,
    folders: BTreeMap<String, Vec<String>>,
}

trevlin_model::table! {
/// Places with their formats.
static PLACES: Table = "../tables/places.toml"; }

/// Formats that occur anywhere: they are recognised by marks of their own.
const ANYWHERE: [&str; 4] = ["htpasswd", "pem", "sheet", "yang"];

/// The formats that a path leaves: none where it says nothing.
fn formats(path: &str) -> Option<&'static [String]> {
    let (folder, name) = path.rsplit_once('/')?;
    if let Some((_, ending)) = name.rsplit_once('.')
        && let Some(formats) = PLACES.endings.get(&format!(".{ending}"))
    {
        return Some(formats);
    }
    let folder = format!("/{folder}/");
    if let Some((_, formats)) = PLACES.folders.iter().find(|(end, _)| folder.ends_with(end.as_str())) {
        return Some(formats);
    }
    let below = folder.rsplit_once("/etc/").map(|(_, below)| below)?;
    let program = below.split('/').next().unwrap_or_default();
    PLACES.others.contains(program).then_some(&[])
}

/// Whether files at a path may be of the format of this name.
pub(crate) fn may_be(format: &str, path: &str) -> bool {
    formats(path).is_none_or(|formats| ANYWHERE.contains(&format) || formats.iter().any(|one| one == format))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::READERS;
    use trevlin_model::{Export, ExportId};

    #[test]
    fn the_folder_of_another_program_is_stronger_than_a_line() {
        let zone = "zone \"a.example\" { type master; };\nkey \"k\" { secret \"x\"; };\n";
        let rules = "*filter\n:ufw-user-input - [0:0]\nCOMMIT\n";
        let settings = "listen_addresses = '*'\nport = 5432\nssl = off\n";
        for (path, text, wanted) in [
            ("d/kept.txt", zone, Some("named")),
            ("d/etc/bind/x", zone, Some("named")),
            ("d/etc/freeradius/3.0/mods-available/x", zone, Some("radius")),
            ("d/etc/lighttpd/x.conf", zone, None),
            ("d/etc/dhcp/ddns.conf", zone, None),
            ("d/kept.txt", rules, Some("ufw")),
            (
                "d/kept.txt",
                "*filter\n:INPUT DROP [0:0]\n:ufw-user-input - [0:0]\nCOMMIT\n",
                Some("iptables-save"),
            ),
            ("d/etc/ufw/user.rules", rules, Some("ufw")),
            ("d/etc/postgresql/15/main/conf.d/x.conf", settings, Some("postgresql")),
            ("d/etc/courier/10-auth.conf", settings, None),
            (
                "d/usr/lib/systemd/system/mosquitto.service",
                "[Service]\nExecStart=/usr/sbin/mosquitto -c /x\n",
                None,
            ),
            ("d/src/zone.lua", zone, None),
            ("d/etc/rspamd/local.d/redis.conf", "servers = \"127.0.0.1\";\npassword = \"x\";\n", None),
            ("d/etc/fail2ban/filter.d/vsftpd.conf", "[Definition]\nfailregex = vsftpd\n", None),
            (
                "d/etc/proftpd/conf.d/own.conf",
                "<Directory /srv/in>\n  <Limit READ>\n    DenyAll\n  </Limit>\n</Directory>\n",
                Some("proftpd"),
            ),
            (
                "d/etc/dovecot/kept.pem",
                "-----BEGIN CERTIFICATE-----\nMA==\n-----END CERTIFICATE-----\n",
                Some("pem"),
            ),
        ] {
            let export = Export::new(ExportId(0), path, text.to_owned());
            let found = crate::recognise(&export).reader.map(|reader| reader.name);
            assert_eq!(found, wanted, "{path}");
        }
    }

    #[test]
    fn every_format_of_the_table_has_a_reader() {
        let all = PLACES.endings.values().chain(PLACES.folders.values()).flatten();
        for format in all.map(String::as_str).chain(ANYWHERE) {
            assert!(READERS.iter().any(|reader| reader.name == format), "{format}");
        }
    }
}
