//! Lists of who may log in from where: access.conf(5), which pam_access(8) reads.

use crate::reader::{LineRecorder, Reader, Reading, Recognition, TELLING_LINES};
use crate::serving::{self, entries, except};
use trevlin_model::pam::AccessRule;
use trevlin_model::served::Sources;
use trevlin_model::{Export, LineClass};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "login-access",
    title: "list of who may log in from where",
    manual: "access.conf(5)",
    recognise,
    read: |export, _| read(export),
};

/// Permission, users and origins of a line. Addresses of IPv6 contain the sign that separates the fields.
fn fields(text: &str) -> Option<(bool, &str, &str)> {
    let (permission, rest) = text.split_once(':')?;
    let permits = match permission.trim() {
        "+" => true,
        "-" => false,
        _ => return None,
    };
    let (users, origins) = rest.split_once(':')?;
    let (users, origins) = (users.trim(), origins.trim());
    (!users.is_empty() && !origins.is_empty()).then_some((permits, users, origins))
}

fn recognise(export: &Export) -> Recognition {
    let mut lines = entries(export).take(TELLING_LINES).map(fields).peekable();
    if lines.peek().is_some() && lines.all(|line| line.is_some()) {
        Recognition::Content
    } else if export.path().ends_with("security/access.conf") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// Whether a word names a terminal or a program of the device itself, from which nothing comes over the network.
fn is_local(word: &str) -> bool {
    let begins = ["tty", "pts/", "vc/", "cron", "console", ":"].iter().any(|begin| word.starts_with(begin));
    word == "LOCAL" || (begins && word.parse::<std::net::IpAddr>().is_err())
}

fn read(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    for text in entries(export) {
        let origin = export.origin_of(text);
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let Some((permits, users, origins)) = fields(text) else {
            book.not_understood(origin, "expected `+ : users : origins` or `- : users : origins`");
            continue;
        };
        book.understood(origin);
        let of = |words: &[&str]| {
            let mut sources = Sources { origins: vec![origin], ..Sources::default() };
            words.iter().filter(|word| !is_local(word)).for_each(|word| serving::host(word, &mut sources));
            sources
        };
        let words = |text| str::split_whitespace(text).collect::<Vec<&str>>();
        let (origins, users) = (words(origins), words(users));
        let ((from, gone), (users, excepted)) = (except(&origins), except(&users));
        let owned = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect();
        reading.facts.access_rules.push(AccessRule {
            permits,
            users: owned(users),
            except: owned(excepted),
            from: of(from).without(&of(gone).ranges),
            origin,
        });
    }
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn ranges(from: &Sources) -> String {
        let ranges = from.ranges.iter().map(trevlin_model::IpRange::short);
        ranges.chain(from.names.iter().cloned()).collect::<Vec<_>>().join(", ")
    }

    #[test]
    fn lines() {
        for (text, wanted) in [
            ("+ : ann bob : 10.4.0.0/24 192.0.2.9", "true ann,bob 10.4.0.0/24, 192.0.2.9"),
            ("-:ALL:ALL", "false ALL 0.0.0.0/0, ::/0"),
            (
                "+ : ALL EXCEPT root : ALL EXCEPT 10.0.0.0/8",
                "true ALL-root 0.0.0.0-9.255.255.255, 11.0.0.0-255.255.255.255, ::/0",
            ),
            ("+:(wheel):2001:db8::/32", "true (wheel) 2001:db8::/32"),
            ("+ : ALL : LOCAL tty1 cron", "true ALL "),
            ("+ : ALL : .yard.example 10.4.", "true ALL 10.4.0.0/16, .yard.example"),
        ] {
            let export = Export::new(ExportId(0), "d/kept", format!("# who\n{text}\n"));
            assert_eq!(
                crate::recognise(&export).reader.map(|reader| reader.name),
                Some("login-access"),
                "{text}"
            );
            let reading = read(&export);
            let one = &reading.facts.access_rules[0];
            let except: String = one.except.iter().map(|word| format!("-{word}")).collect();
            assert_eq!(
                format!("{} {}{except} {}", one.permits, one.users.join(","), ranges(&one.from)),
                wanted,
                "{text}"
            );
        }
    }

    #[test]
    fn what_is_none() {
        for (path, text) in
            [("d/kept", "+ : ann\n"), ("d/kept", "a : b : c\n"), ("d/access.conf", "Order deny,allow\n")]
        {
            let export = Export::new(ExportId(0), path, text.into());
            assert_ne!(
                crate::recognise(&export).reader.map(|reader| reader.name),
                Some("login-access"),
                "{text}"
            );
        }
        let export = Export::new(ExportId(0), "d/etc/security/access.conf", "+ : ALL : ALL\nall\n".into());
        assert_eq!(read(&export).ledger.notes.len(), 1);
    }
}
