//! Logins that programs use at other services: `.netrc` (RFC 959 clients, curl(1), git-credential-netrc) and `.pgpass` (PostgreSQL
//! documentation, "The Password File").

use crate::reader::{LineRecorder, Reader, Reading, Recognition};
use crate::serving::{entries, hold};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, LineClass};

/// The reader of `.netrc`.
pub(crate) const NETRC: Reader = Reader {
    name: "netrc",
    title: "logins of clients at other services",
    manual: "netrc(5), curl(1)",
    recognise: |export| {
        let mut words = entries(export).flat_map(str::split_whitespace);
        let begins = matches!(words.next(), Some("machine" | "default"));
        let login = begins
            && words.by_ref().take(40).any(|word| word == "login")
            && entries(export).any(|line| line.split_whitespace().any(|word| word == "password"));
        match (login, matches!(export.file_name(), ".netrc" | "_netrc" | "netrc")) {
            (true, _) => Recognition::Content,
            (false, true) => Recognition::Name,
            _ => Recognition::No,
        }
    },
    read: |export, _| netrc(export),
};

/// The reader of `.pgpass`.
pub(crate) const PGPASS: Reader = Reader {
    name: "pgpass",
    title: "logins at PostgreSQL servers",
    manual: "PostgreSQL documentation, The Password File",
    // Five fields between colons are in other files as well, so the name decides.
    recognise: |export| match export.file_name() {
        ".pgpass" | "pgpass.conf" | "pgpass" => Recognition::Content,
        _ => Recognition::No,
    },
    read: |export, _| pgpass(export),
};

fn netrc(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    let mut machine = "any host".to_owned();
    let mut user = None;
    // A macro is text up to an empty line (netrc(5), macdef).
    let mut in_macro = false;
    for line in export.lines() {
        let text = line.text.trim();
        in_macro = in_macro && !text.is_empty();
        if text.is_empty() || text.starts_with('#') || in_macro {
            continue;
        }
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        book.understood(export.origin_of(text));
        let mut words = text.split_whitespace();
        while let Some(word) = words.next() {
            match word {
                "default" => (machine, user) = ("any host".to_owned(), None),
                "macdef" => {
                    in_macro = true;
                    break;
                }
                "machine" => (machine, user) = (words.next().unwrap_or_default().to_owned(), None),
                "login" | "account" => user = words.next().or(user),
                "password" => {
                    if let Some(value) = words.next() {
                        let owner = match user {
                            Some(user) => format!("{user} at {machine}"),
                            None => format!("a login at {machine}"),
                        };
                        hold(export, &mut reading.facts, value, SecretKind::OwnPassword, &owner);
                    }
                }
                _ => {
                    let place = export.origin_of(text);
                    book.not_understood(
                        place,
                        "expected machine, default, login, password, account or macdef",
                    );
                    reading.facts.masked_places.push(place);
                    break;
                }
            }
        }
    }
    reading
}

fn pgpass(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    for text in entries(export) {
        let origin = export.origin_of(text);
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let fields = fields(text);
        let [host, port, database, user, password] = fields[..] else {
            book.not_understood(origin, "expected `host:port:database:user:password`");
            reading.facts.masked_places.push(origin);
            continue;
        };
        book.understood(origin);
        let part = |text: &str, any: &str| if text == "*" { any.to_owned() } else { text.to_owned() };
        let (host, user) = (part(host, "any server"), part(user, "any user"));
        let owner =
            format!("{user} at {host}, port {}, database {}", part(port, "any"), part(database, "any"));
        hold(export, &mut reading.facts, password, SecretKind::OwnPassword, &owner);
    }
    reading
}

/// Fields between colons; one behind a backslash belongs to a field, and the last field has all the rest.
fn fields(text: &str) -> Vec<&str> {
    let mut found = Vec::new();
    let (mut start, mut escaped) = (0, false);
    for (at, sign) in text.char_indices() {
        if sign == ':' && !escaped && found.len() < 4 {
            found.push(&text[start..at]);
            start = at + 1;
        }
        escaped = sign == '\\' && !escaped;
    }
    found.push(&text[start..]);
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn logins_with_their_hosts() {
        for (path, text, wanted) in [
            (
                "d/root/.netrc",
                "machine backup.quay.example login ann password sesame\n",
                &["netrc ann at backup.quay.example"][..],
            ),
            (
                "d/kept.txt",
                "machine a.example\n  login ann\n  password x\n\nmachine b.example login bob password y\ndefault login any password z\n",
                &["netrc ann at a.example", "netrc bob at b.example", "netrc any at any host"],
            ),
            (
                "d/.netrc",
                "machine a.example login ann password x macdef init\nput password y\n\nmachine b.example password z\n",
                &["netrc ann at a.example", "netrc a login at b.example"],
            ),
            (
                "d/.pgpass",
                "# all\ndb.quay.example:5432:crew:ann:se\\:same\n*:*:*:bob:y:z\n",
                &[
                    "pgpass ann at db.quay.example, port 5432, database crew",
                    "pgpass bob at any server, port any, database any",
                ],
            ),
        ] {
            let export = Export::new(ExportId(0), path, text.into());
            let reader = crate::recognise(&export).reader.expect(text);
            let reading = (reader.read)(&export, &crate::ReadContext::of(vec![&export]));
            let told: Vec<String> =
                reading.facts.secrets.iter().map(|held| format!("{} {}", reader.name, held.owner)).collect();
            assert_eq!(told, wanted, "{text}");
        }
        let export =
            Export::new(ExportId(0), "d/notes.txt", "machine tools and their login password list\n".into());
        assert!(crate::recognise(&export).reader.is_none_or(|reader| reader.name == "netrc"));
    }
}
