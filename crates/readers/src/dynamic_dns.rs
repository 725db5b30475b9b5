//! Clients that publish the device's address under a name: `ddclient.conf` and `inadyn.conf`.
//!
//! Formats: ddclient(8) and the remarks in the file that comes with it; inadyn.conf(5).

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use std::sync::Arc;
use trevlin_model::listen::DynamicName;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, LineClass, Origin, Secret, SecretRecord};

/// The reader of the one.
pub(crate) const DDCLIENT: Reader = Reader {
    name: "ddclient",
    title: "dynamic DNS client (ddclient)",
    manual: "ddclient(8)",
    recognise: recognise_ddclient,
    read: read_ddclient,
};

/// The reader of the other.
pub(crate) const INADYN: Reader = Reader {
    name: "inadyn",
    title: "dynamic DNS client (inadyn)",
    manual: "inadyn.conf(5)",
    recognise: recognise_inadyn,
    read: read_inadyn,
};

fn uncommented(export: &Export) -> impl Iterator<Item = &str> {
    export.lines().map(|line| line.text.trim()).filter(|text| !text.is_empty() && !text.starts_with('#'))
}

fn recognise_ddclient(export: &Export) -> Recognition {
    let says = |keys: &[&str]| {
        uncommented(export)
            .any(|text| keys.iter().any(|key| text.split([',', ' ']).any(|one| one.starts_with(key))))
    };
    if says(&["protocol="]) && says(&["login=", "password="]) && says(&["use=", "usev4=", "server=", "web="])
    {
        Recognition::Content
    } else if export.file_name().starts_with("ddclient") && export.file_name().ends_with(".conf") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

fn recognise_inadyn(export: &Export) -> Recognition {
    let block = |text: &str| {
        ["provider ", "custom "].iter().any(|word| text.starts_with(word)) && text.ends_with('{')
    };
    let says = |key: &str| {
        uncommented(export).any(|text| text.split('=').next().is_some_and(|one| one.trim() == key))
    };
    if uncommented(export).any(block) && says("hostname") {
        Recognition::Content
    } else if export.file_name().starts_with("inadyn") && export.file_name().ends_with(".conf") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// Values of this kind are placeholders.
fn held(value: &str, owner: &str, origin: Origin) -> Option<Arc<SecretRecord>> {
    let secret = Secret::new(value);
    let kept = !secret.is_empty() && !secret.is_placeholder();
    kept.then(|| Arc::new(SecretRecord { secret, kind: SecretKind::Token, owner: owner.to_owned(), origin }))
}

/// Keywords of ddclient that have a bearing, those that protect a login to a router among them.
const JUDGED: [&str; 6] = ["password", "fw-password", "ssl", "login", "protocol", "server"];

fn read_ddclient(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut found = DynamicName {
        program: "ddclient",
        names: Vec::new(),
        token: None,
        plain: None,
        origin: export.origin(0..0),
    };
    let mut encrypted = false;
    for line in export.lines() {
        let code = line.text.split(" #").next().unwrap_or_default().trim().trim_end_matches('\\').trim();
        if code.is_empty() || code.starts_with('#') {
            continue;
        }
        let origin = export.origin_of(code);
        if found.origin.end == 0 {
            found.origin = origin;
        }
        let mut bearing = false;
        for piece in pieces(code) {
            match piece.split_once('=') {
                Some((key, value)) => {
                    let value = value.trim().trim_matches(['\'', '"']);
                    let key = key.trim();
                    bearing |= JUDGED.contains(&key);
                    match key {
                        "password" | "fw-password" => {
                            let held = held(value, "the dynamic DNS client", export.origin_of(value));
                            found.token = found.token.or(held.as_ref().map(|_| origin));
                            reading.facts.secrets.extend(held);
                        }
                        "ssl" => {
                            encrypted = value == "yes";
                            found.plain = (!encrypted).then_some(origin);
                        }
                        _ => {}
                    }
                }
                // Text that is no assignment is a name.
                None if piece.contains('.') => {
                    bearing = true;
                    let place = export.origin_of(piece);
                    found.names.push((piece.to_owned(), place));
                }
                None => {}
            }
        }
        book.class(origin, if bearing { LineClass::Understood } else { LineClass::Ignored });
    }
    // Before version 3.11 encryption is off by default.
    if !encrypted && found.plain.is_none() && found.token.is_some() {
        found.plain = found.token;
    }
    reading.facts.dynamic_names.push(found);
    reading
}

/// Assignments and names of a line: separated by commas and blanks outside of quotes.
pub(crate) fn pieces(text: &str) -> Vec<&str> {
    let mut all = Vec::new();
    let (mut start, mut quote) = (0, None);
    for (at, letter) in text.char_indices() {
        match quote {
            Some(open) if letter == open => quote = None,
            Some(_) => {}
            None if matches!(letter, '\'' | '"') => quote = Some(letter),
            None if letter == ',' || letter.is_whitespace() => {
                all.push(&text[start..at]);
                start = at + letter.len_utf8();
            }
            None => {}
        }
    }
    all.push(&text[start..]);
    all.retain(|piece| !piece.is_empty());
    all
}

fn read_inadyn(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut current: Option<DynamicName> = None;
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let origin = export.origin_of(text);
        if text.ends_with('{') && (text.starts_with("provider") || text.starts_with("custom")) {
            book.understood(origin);
            reading.facts.dynamic_names.extend(current.take());
            current =
                Some(DynamicName { program: "inadyn", names: Vec::new(), token: None, plain: None, origin });
            continue;
        }
        if text == "}" {
            book.understood(origin);
            reading.facts.dynamic_names.extend(current.take());
            continue;
        }
        let Some((key, value)) = text.split_once('=').map(|(key, value)| (key.trim(), value.trim())) else {
            match text.starts_with("include(") {
                true => {
                    book.not_understood(origin, "the included file is not read; please export it as well")
                }
                false => book.not_understood(origin, "expected `name = value`, or a provider block"),
            }
            continue;
        };
        let value = value.split(" #").next().unwrap_or_default().trim();
        let bare = value.trim_matches(['"', '\'']);
        let Some(one) = current.as_mut() else {
            // One setting for all: certificates that cannot be checked are taken.
            let judged = key == "secure-ssl";
            book.class(origin, if judged { LineClass::Understood } else { LineClass::Ignored });
            continue;
        };
        match key {
            "hostname" => {
                let names = value
                    .trim_matches(['{', '}'])
                    .split(',')
                    .map(|name| name.trim().trim_matches(['"', '\'']));
                one.names.extend(names.filter(|name| !name.is_empty()).map(|name| (name.to_owned(), origin)));
                book.understood(origin);
            }
            "password" => {
                let held = held(bare, "the dynamic DNS client", export.origin_of(bare));
                one.token = held.as_ref().map(|_| origin);
                reading.facts.secrets.extend(held);
                book.understood(origin);
            }
            "ssl" => {
                one.plain = (bare == "false").then_some(origin);
                book.understood(origin);
            }
            "ddns-path" => {
                // Tokens are often part of the path.
                reading.facts.masked_places.push(export.origin_of(bare));
                book.class(origin, LineClass::Ignored);
            }
            _ => book.class(origin, LineClass::Ignored),
        }
    }
    reading.facts.dynamic_names.extend(current);
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn told(path: &str, text: &str) -> Vec<String> {
        let export = Export::new(ExportId(0), path, text.into());
        let reader = crate::recognise(&export).reader.unwrap();
        let reading = (reader.read)(&export, &ReadContext::default());
        let line = |origin: Option<Origin>| origin.map_or(0, |origin| export.line_of(origin.start));
        assert!(reading.ledger.notes.is_empty(), "{:?}", reading.ledger.notes);
        let all = reading.facts.dynamic_names.iter();
        all.map(|one| {
            let names: Vec<&str> = one.names.iter().map(|(name, _)| name.as_str()).collect();
            format!("{} {} token {} plain {}", one.program, names.join("+"), line(one.token), line(one.plain))
        })
        .collect()
    }

    #[test]
    fn ddclient_lines() {
        for (text, wanted) in [
            (
                "ssl=yes\nuse=web\nprotocol=dyndns2\nserver=names.example\nlogin=harbour, password='Sesame-open 9'\nquay.names.example,yard.names.example\n",
                "ddclient quay.names.example+yard.names.example token 5 plain 0",
            ),
            (
                "use=web\nprotocol=x\nlogin=a password=Sesame9\ngate.names.example\n",
                "ddclient gate.names.example token 3 plain 3",
            ),
            (
                "use=web\nprotocol=x, ssl=no\nlogin=a\npassword=Sesame9\ngate.names.example\n",
                "ddclient gate.names.example token 4 plain 2",
            ),
            (
                "# password=Sesame9\nuse=web\nprotocol=x\nlogin=a\nserver=s.example\n",
                "ddclient  token 0 plain 0",
            ),
        ] {
            assert_eq!(told("d/etc/ddclient.conf", text), [wanted], "{text}");
        }
    }

    #[test]
    fn inadyn_blocks() {
        let text = "period = 300\nprovider default@names.example {\n  username = harbour\n  password = \"Sesame-open9\"\n\
                    hostname = { quay.names.example, yard.names.example }\n}\ncustom other {\n hostname = gate.names.example\n\
                    ssl = false\n password = Sesame9\n}\n";
        assert_eq!(
            told("d/etc/inadyn.conf", text),
            [
                "inadyn quay.names.example+yard.names.example token 4 plain 0",
                "inadyn gate.names.example token 10 plain 9"
            ]
        );
    }
}
