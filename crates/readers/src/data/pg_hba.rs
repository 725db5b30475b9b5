//! `pg_hba.conf` (PostgreSQL manual, "The pg_hba.conf File"): permitted users, databases and sources, with the authentication method. The
//! first matching line decides; connections without a match are rejected.

use super::postgresql;
use crate::addresses;
use crate::data::host_list::fields;
pub(super) use crate::data::host_list::is_list;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use crate::telling::PG_HBA_KINDS as KINDS;
use crate::telling::PG_HBA_METHODS as METHODS;
use indexmap::IndexMap;
use indexmap::map::Entry;
use std::collections::BTreeMap;
use trevlin_model::served::{AuthRequirement, PartKind, Remark, Requirement, ServiceResource, Sources};
use trevlin_model::{Export, Origin, Setting, Taken};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "pg-hba",
    title: "client authentication (PostgreSQL)",
    manual: "PostgreSQL manual, Client Authentication",
    recognise: |export| {
        if is_list(export) { Recognition::Content } else { Recognition::No }
    },
    read,
};

/// A line that fits some connections.
struct Row {
    kind: &'static str,
    databases: Vec<String>,
    users: Vec<String>,
    sources: Sources,
    method: String,
    certificate: bool,
    origin: Origin,
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let rows = rows(export, &mut book);
    let exported = around.of_format(&postgresql::READER).next().is_some();
    let origin = rows.first().map_or_else(|| export.origin(0..0), |row| row.origin);
    let mut served = postgresql::served(&postgresql::in_force(around).values, exported, origin);
    served.parts = parts(&rows, served.offers.is_empty() && exported);
    reading.facts.served.push(served);
    reading
}

fn rows(export: &Export, book: &mut LineRecorder<'_>) -> Vec<Row> {
    let mut found = Vec::new();
    for line in export.lines() {
        let words = fields(line.text);
        let Some((first, rest)) = words.split_first() else { continue };
        let origin = export.origin_of(line.text.trim());
        if matches!(*first, "include" | "include_dir" | "include_if_exists") {
            book.not_understood(
                origin,
                "a list that includes another is not followed; please review it by hand",
            );
            continue;
        }
        let row = KINDS.iter().find(|kind| *kind == first).and_then(|kind| row(kind, rest, origin));
        match row {
            Some(row) => {
                book.understood(origin);
                found.push(row);
            }
            None => book.not_understood(
                origin,
                "expected kind, database, user, address (not for `local`) and method; the server refuses the whole file",
            ),
        }
    }
    found
}

fn row(kind: &'static str, rest: &[&str], origin: Origin) -> Option<Row> {
    let names =
        |text: &str| text.split(',').map(|one| one.trim().trim_matches('"').to_owned()).collect::<Vec<_>>();
    let (databases, rest) = rest.split_first()?;
    let (users, rest) = rest.split_first()?;
    let mut sources = Sources::default();
    let rest = if kind == "local" {
        sources.ranges.extend(serving::loopback());
        rest
    } else {
        let (address, rest) = rest.split_first()?;
        // A mask may be a field of its own.
        match rest.split_first() {
            Some((mask, after)) if addresses::single(mask).is_some() => {
                sources.ranges.push(addresses::prefix(&format!("{address}/{mask}"))?.into());
                after
            }
            _ => {
                match *address {
                    "all" => sources.ranges.extend(Sources::everybody().ranges),
                    "samehost" => sources.ranges.extend(serving::loopback()),
                    "samenet" => sources.names.push("its connected networks".into()),
                    address => serving::host(address, &mut sources),
                }
                rest
            }
        }
    };
    let (method, options) = rest.split_first()?;
    let method = method.to_ascii_lowercase();
    if !METHODS.contains(&method.as_str()) && method != "bsd" && method != "oauth" {
        return None;
    }
    if !sources.is_everybody() {
        sources.origins.push(origin);
    }
    let certificate = options
        .iter()
        .any(|one| matches!(*one, "clientcert=verify-full" | "clientcert=verify-ca" | "clientcert=1"));
    Some(Row { kind, databases: names(databases), users: names(users), sources, method, certificate, origin })
}

/// Kind, database and user of lines.
#[derive(PartialEq, Eq, Hash)]
struct Alike {
    kind: &'static str,
    databases: Vec<String>,
    users: Vec<String>,
}

impl Alike {
    /// Whether these cover database, user and kind of a line.
    fn cover(&self, row: &Row) -> bool {
        let within = |outer: &[String], inner: &[String]| {
            outer.iter().any(|one| one == "all") || inner.iter().all(|one| outer.contains(one))
        };
        let kind = self.kind == row.kind || (self.kind == "host" && row.kind.starts_with("host"));
        kind && within(&self.databases, &row.databases) && within(&self.users, &row.users)
    }
}

/// Lines so far, by the lines they may cover: the same users, the same databases, or any of either.
#[derive(Default)]
struct Earlier {
    /// Those that ask the same, and the addresses that they fit.
    all: IndexMap<Alike, Taken>,
    by_user: BTreeMap<String, Vec<usize>>,
    by_database: BTreeMap<String, Vec<usize>>,
}

impl Earlier {
    fn add(&mut self, row: &Row) {
        let (databases, users) = (row.databases.clone(), row.users.clone());
        let entry = self.all.entry(Alike { kind: row.kind, databases, users });
        let (at, is_new) = (entry.index(), matches!(entry, Entry::Vacant(_)));
        let addresses = entry.or_default();
        for range in &row.sources.ranges {
            addresses.take(*range);
        }
        if is_new {
            for (list, known) in [(&row.users, &mut self.by_user), (&row.databases, &mut self.by_database)] {
                for name in list {
                    known.entry(name.clone()).or_default().push(at);
                }
            }
        }
    }

    /// Who is left for a line: by users or by databases, whichever are fewer.
    fn left(&self, row: &Row) -> Sources {
        let named = |known: &'_ BTreeMap<String, Vec<usize>>, list: &[String]| {
            let first = list.first().map_or("all", String::as_str);
            let names = if first == "all" { vec!["all"] } else { vec!["all", first] };
            names.into_iter().filter_map(|name| known.get(name)).flatten().copied().collect::<Vec<_>>()
        };
        let (users, databases) = (named(&self.by_user, &row.users), named(&self.by_database, &row.databases));
        let fewer = if users.len() < databases.len() { users } else { databases };
        let mut left = row.sources.clone();
        let earlier = fewer.into_iter().filter_map(|at| self.all.get_index(at));
        for (_, addresses) in earlier.filter(|(alike, _)| alike.cover(row)) {
            left.ranges = left.ranges.into_iter().flat_map(|range| addresses.left_of(range)).collect();
            if left.is_nobody() {
                break;
            }
        }
        left
    }
}

fn parts(rows: &[Row], no_tls: bool) -> Vec<ServiceResource> {
    let mut found = Vec::new();
    let mut earlier = Earlier::default();
    for row in rows {
        let sources = earlier.left(row);
        earlier.add(row);
        // Without TLS no such connection comes about.
        if row.method == "reject" || (no_tls && row.kind == "hostssl") {
            continue;
        }
        if sources.is_nobody() {
            continue;
        }
        let name = format!("{} for {}", row.databases.join(", "), row.users.join(", "));
        let mut part = ServiceResource::new(PartKind::Rule, name, row.origin);
        part.sources = sources;
        part.users = row.users.iter().filter(|one| *one != "all").cloned().collect();
        let asked = match row.method.as_str() {
            "trust" if row.certificate => AuthRequirement::Certificate,
            "trust" => AuthRequirement::Nothing,
            "ident" => AuthRequirement::Address,
            "cert" => AuthRequirement::Certificate,
            "password" | "ldap" | "radius" | "pam" | "bsd" => AuthRequirement::Password,
            // The operating system of the device asserts the user.
            "peer" => AuthRequirement::Proof,
            _ => AuthRequirement::Proof,
        };
        part.login = Setting::Stated { value: asked, origin: row.origin };
        part.writes = Setting::Stated { value: true, origin: row.origin };
        let demand = match (row.kind, no_tls) {
            ("hostssl" | "hostgssenc", _) => Requirement::Required,
            ("hostnossl", _) | (_, true) => Requirement::Never,
            ("local", _) => Requirement::Required,
            _ => Requirement::Offered,
        };
        part.encryption = Some(Setting::Stated { value: demand, origin: row.origin });
        if asked == AuthRequirement::Password && demand != Requirement::Required {
            part.remarks.push((Remark::ClearPassword, row.origin));
        }
        if row.method == "md5" {
            part.remarks.push((Remark::Md5Password, row.origin));
        }
        found.push(part);
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn told(text: &str) -> (Vec<String>, usize) {
        let export = Export::new(ExportId(0), "d/etc/postgresql/15/main/pg_hba.conf", text.into());
        let reading = read(&export, &ReadContext::of(vec![&export]));
        let line = |part: &ServiceResource| {
            let remarks: Vec<String> = part.remarks.iter().map(|(one, _)| format!(" {one:?}")).collect();
            format!(
                "{} from {} {:?} {:?}{}",
                part.name,
                part.sources.words(),
                part.login.value().unwrap(),
                part.encryption.as_ref().and_then(|one| one.value()).unwrap(),
                remarks.concat()
            )
        };
        (reading.facts.served[0].parts.iter().map(line).collect(), reading.ledger.notes.len())
    }

    #[test]
    fn the_first_line_that_fits_decides() {
        for (text, wanted) in [
            ("host all all 0.0.0.0/0 trust\n", &["all for all from any address Nothing Offered"][..]),
            ("local all postgres peer\n", &["all for postgres from 127.0.0.0/8, ::1 Proof Required"]),
            (
                "host sales ann, bob 10.4.0.0 255.255.0.0 md5\n",
                &["sales for ann, bob from 10.4.0.0/16 Proof Offered Md5Password"],
            ),
            ("hostssl all all all scram-sha-256\n", &["all for all from any address Proof Required"]),
            (
                "host all all 10.4.0.9/32 password\n",
                &["all for all from 10.4.0.9 Password Offered ClearPassword"],
            ),
            ("host all all all reject\nhost all all 10.4.0.0/16 trust\n", &[]),
            (
                "host all all 10.4.0.0/17 reject\nhost all all 10.4.0.0/16 trust\n",
                &["all for all from 10.4.128.0/17 Nothing Offered"],
            ),
            // Another database is another line's.
            (
                "host a all all reject\nhost b all all trust\n",
                &["b for all from any address Nothing Offered"],
            ),
            (
                "host all all samenet ident # map=x\n",
                &["all for all from its connected networks Address Offered"],
            ),
            (
                "hostssl all all all trust clientcert=verify-full\n",
                &["all for all from any address Certificate Required"],
            ),
        ] {
            assert_eq!(told(text), (wanted.iter().map(|one| (*one).to_owned()).collect(), 0), "{text}");
        }
        assert_eq!(told("host all\nwobble\ninclude x\nhost all all all wobble\n").1, 4);
    }
}
