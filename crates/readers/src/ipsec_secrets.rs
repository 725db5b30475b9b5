//! `ipsec.secrets`: keys and passwords for IKE (ipsec.secrets(5) of strongSwan).
//!
//! An entry is a list of identities, a colon, the kind of secret and the secret. Quoted text is literal; `0x` and `0s` without quotes begin
//! a hexadecimal or Base64 value.

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::telling::IPSEC_SECRETS as KINDS;
use std::sync::Arc;
use trevlin_model::ike::PreSharedKey;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, LineClass, Login, LoginList, Origin, Reference, Secret, SecretRecord};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "ipsec-secrets",
    title: "keys and passwords for IKE",
    manual: "ipsec.secrets(5)",
    recognise,
    read,
};

/// Identities, kind and value of an entry.
fn split(line: &str) -> Option<(&str, &str, &str)> {
    memchr::memchr(b':', line.as_bytes())?;
    let (identities, rest) = match line.trim_start().strip_prefix(':') {
        Some(rest) => ("", rest),
        None => {
            line.split_once(" : ").or_else(|| line.split_once("\t: ")).or_else(|| line.split_once(": "))?
        }
    };
    let rest = rest.trim_start();
    let end = rest.find([' ', '\t']).unwrap_or(rest.len());
    Some((identities.trim(), &rest[..end], rest[end..].trim()))
}

fn is_entry(line: &str) -> bool {
    !line.starts_with('#')
        && split(line).is_some_and(|(_, kind, value)| {
            KINDS.iter().any(|known| known.eq_ignore_ascii_case(kind)) && !value.is_empty()
        })
}

fn recognise(export: &Export) -> Recognition {
    let lines = || {
        export
            .lines()
            .take(TELLING_LINES)
            .map(|line| line.text.trim())
            .filter(|line| !line.is_empty() && !line.starts_with('#'))
    };
    let (entries, all) = (lines().filter(|line| is_entry(line)).count(), lines().count());
    let name = export.file_name();
    if entries > 0 && entries * 2 > all {
        Recognition::Content
    } else if name == "ipsec.secrets" || (name.starts_with("ipsec.") && name.ends_with(".secrets")) {
        Recognition::Name
    } else {
        Recognition::No
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut block = false;
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let origin = export.origin_of(text);
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        // A private key written out between braces, as other daemons with this file have it.
        if block || text.ends_with('{') {
            block = !text.ends_with('}');
            book.understood(origin);
            reading.facts.masked_places.push(origin);
            continue;
        }
        if let Some(path) = text.strip_prefix("include").filter(|rest| rest.starts_with([' ', '\t'])) {
            // The included file is an export of its own and read separately.
            book.class(origin, LineClass::Ignored);
            let path = path.trim().trim_matches(['"', '\'']).to_owned();
            // Whether a name with wildcards matches anything is not known.
            if !path.contains(['*', '?']) && around.find(&path, export).is_none() {
                reading.facts.missing.push(Reference { path, configuration: true, unsaid: None, origin });
            }
            continue;
        }
        match split(text) {
            Some((identities, kind, value)) if KINDS.contains(&kind.to_ascii_lowercase().as_str()) => {
                book.understood(origin);
                entry(export, identities, kind, value, origin, &mut reading);
            }
            // It may hold a secret, so nothing of it is repeated.
            _ => {
                book.not_understood(
                    origin,
                    "expected `identities : KIND secret`, with KIND one of PSK, EAP, XAUTH, RSA and the like",
                );
                reading.facts.masked_places.push(origin);
            }
        }
    }
    reading
}

/// A value at the start of a text, with the place it takes, quotes included: resolved where it is encoded.
fn value(text: &str) -> Option<(Secret, &str)> {
    let quote = text.chars().next().filter(|letter| matches!(letter, '"' | '\''));
    match quote {
        Some(quote) => {
            let end = text[1..].find(quote)?;
            Some((Secret::new(&text[1..=end]), &text[..end + 2]))
        }
        None => {
            let end = text.find([' ', '\t']).unwrap_or(text.len());
            (end > 0).then(|| (Secret::from_prefixed(&text[..end]), &text[..end]))
        }
    }
}

fn identities(text: &str) -> Vec<String> {
    let mut found = Vec::new();
    let mut rest = text.trim();
    while !rest.is_empty() {
        let quote = rest.chars().next().filter(|letter| matches!(letter, '"' | '\''));
        let (one, after) = match quote {
            Some(quote) => rest[1..].split_once(quote).unwrap_or((&rest[1..], "")),
            None => rest.split_once([' ', '\t']).unwrap_or((rest, "")),
        };
        found.push(one.to_owned());
        rest = after.trim_start();
    }
    found
}

fn entry(export: &Export, names: &str, kind: &str, text: &str, origin: Origin, reading: &mut Reading) {
    let names = identities(names);
    let hold = |secret: Secret, place: &str, kind: SecretKind, owner: String| {
        Arc::new(SecretRecord { secret, kind, owner, origin: export.origin_of(place) })
    };
    let unreadable = |reading: &mut Reading| {
        LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere)
            .not_understood(origin, "the secret is missing, or its closing quotation mark is");
        reading.facts.masked_places.push(origin);
    };
    match kind.to_ascii_uppercase().as_str() {
        "PSK" => {
            let Some((secret, place)) = value(text) else { return unreadable(reading) };
            let mut sorted = names.clone();
            sorted.sort();
            let owner = if sorted.is_empty() { "whoever calls".to_owned() } else { sorted.join(" and ") };
            let held = hold(secret, place, SecretKind::PreSharedKey, owner);
            reading.facts.secrets.push(Arc::clone(&held));
            reading.facts.pre_shared_keys.push(PreSharedKey { identities: names, held, origin });
        }
        kind @ ("EAP" | "XAUTH" | "NTLM") => {
            let Some((secret, place)) = value(text) else { return unreadable(reading) };
            // The last identity is the user's; a server's may stand before it.
            let user = names.last().cloned().unwrap_or_else(|| "*".into());
            let kept = if kind == "NTLM" { SecretKind::PasswordHash } else { SecretKind::LoginPassword };
            let held = hold(secret, place, kept, user.clone());
            reading.facts.secrets.push(Arc::clone(&held));
            reading.facts.logins.push(Login {
                user,
                list: LoginList::LocalFile(export.path().to_owned()),
                service: format!("IKE, by {kind}"),
                daemon: Some(trevlin_model::LoginDaemon::Ike),
                secret: Some(held),
                certain: true,
                expires: None,
                origin,
            });
        }
        // The file's name, then the passphrase that opens it, or the number that opens a card.
        _ => {
            let Some((_, file)) = value(text) else { return unreadable(reading) };
            let rest = text[file.len()..].trim_start();
            if let Some((secret, place)) = value(rest).filter(|(_, place)| !place.starts_with(['%', '#'])) {
                let owner = file.trim_matches(['"', '\'']).to_owned();
                reading.facts.secrets.push(hold(secret, place, SecretKind::Passphrase, owner));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/ipsec.secrets", text.into());
        read(&export, &ReadContext::default())
    }

    #[test]
    fn entries() {
        for (line, wanted) in [
            ("192.0.2.1 %any : PSK \"sesame open\"", "key 192.0.2.1 and any peer"),
            (": PSK 0sc2VzYW1lIG9wZW4=", "key any peer"),
            ("@a.example @b.example : PSK 'sesame open' # both", "key @a.example and @b.example"),
            ("ann : EAP \"sesame open\"", "login ann"),
            ("gate bob : XAUTH \"sesame open\"", "login bob"),
            ("\"ann smith\" : EAP \"sesame open\"", "login ann smith"),
            (": RSA key.pem \"sesame open\"", "passphrase key.pem"),
            (": RSA key.pem %prompt", ""),
            (": RSA key.pem", ""),
            ("ann : PSK \"sesame", "not understood"),
            ("gibberish", "not understood"),
        ] {
            let reading = of(line);
            let facts = &reading.facts;
            let told = if let Some(key) = facts.pre_shared_keys.first() {
                format!("key {}", key.whom())
            } else if let Some(login) = facts.logins.first() {
                format!("login {}", login.user)
            } else if reading.ledger.count(LineClass::NotUnderstood) > 0 {
                assert!(!facts.masked_places.is_empty());
                "not understood".into()
            } else {
                facts.secrets.first().map_or_else(String::new, |held| format!("passphrase {}", held.owner))
            };
            assert_eq!(told, wanted, "{line}");
            assert!(
                facts.secrets.iter().all(|held| held.secret.same_as(&Secret::new("sesame open"))),
                "{line}"
            );
        }
    }

    #[test]
    fn keys_between_braces_are_masked() {
        let reading = of("@a : RSA {\n\tModulus: 0xdeadbeef\n\tPrivateExponent: 0xcafe\n\t}\n: PSK \"x\"\n");
        assert_eq!((reading.facts.masked_places.len(), reading.facts.pre_shared_keys.len()), (4, 1));
    }
}
