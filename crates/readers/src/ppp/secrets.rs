//! `chap-secrets` and `pap-secrets` (pppd(8), "AUTHENTICATION"): client, server, secret, then the addresses the
//! client may use.

use super::words::{Word, words};
use crate::addresses;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use std::sync::Arc;
use trevlin_model::secret::SecretKind;
use trevlin_model::{
    AllowedAddresses, Credential, Export, Family, IpRange, MalformedAddress, Origin, Secret, SecretRecord,
    SecretsFile, Setting,
};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "ppp-secrets", title: "pppd secrets file", manual: "pppd(8)", recognise, read };

fn recognise(export: &Export) -> Recognition {
    let stock = export.lines().take(5).any(|line| {
        let comment = line.text.trim_start_matches(['#', ' ', '\t']).to_ascii_lowercase();
        line.text.starts_with('#') && comment.starts_with("secrets for authentication using")
    });
    if stock {
        Recognition::Content
    } else if export.file_name().contains("chap-secrets") || export.file_name().contains("pap-secrets") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

fn file(export: &Export) -> SecretsFile {
    let pap_heading = export.lines().take(5).any(|line| line.text.to_ascii_lowercase().contains("using pap"));
    if export.file_name().contains("pap-secrets") || (pap_heading && !export.file_name().contains("chap")) {
        SecretsFile::Pap
    } else {
        SecretsFile::Chap
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let all = words(export.text());
    let mut rest = all.as_slice();
    while let [_, tail @ ..] = rest {
        let length = 1 + tail.iter().take_while(|word| !word.starts_line).count();
        let (entry, next) = rest.split_at(length);
        rest = next;
        let origin = export.origin(entry[0].span.start..entry[length - 1].span.end);
        let [client, server, secret, columns @ ..] = entry else {
            // A lone name or two: pppd skips them. The text may be a stray secret, so it is not repeated.
            book.not_understood(
                origin,
                "expected client, server and secret on one line; pppd ignores this line",
            );
            continue;
        };
        book.understood(origin);
        if entry.iter().any(|word| word.unclosed) {
            book.not_understood(
                origin,
                "a quotation mark is not closed: pppd reads the rest of the file as one word",
            );
        }
        let held = held_secret(export, around, file(export), client, secret);
        if let Setting::Stated { value: Some(held), .. } = &held {
            book.understood(held.origin);
            reading.facts.secrets.push(Arc::clone(held));
        }
        // A secret with a blank in it and no quotes spills into the next columns.
        reading.facts.masked_places.extend(
            columns.iter().filter(|word| may_be_secret(word)).map(|word| export.origin(word.span.clone())),
        );
        let mut malformed = Vec::new();
        let addresses = allowed(export, columns, &mut malformed);
        for one in &malformed {
            book.note(one.origin, one.why.clone());
        }
        reading.facts.credentials.push(Credential {
            file: file(export),
            path: export.path().into(),
            client: client.plain(),
            server: server.plain(),
            secret: held,
            addresses,
            malformed,
            origin,
        });
    }
    reading
}

/// The third column: a secret, `@/path` for one kept in another file, or nothing at all.
fn held_secret(
    export: &Export,
    around: &ReadContext<'_>,
    file: SecretsFile,
    client: &Word,
    secret: &Word,
) -> Setting<Option<Arc<SecretRecord>>> {
    let origin = export.origin(secret.span.clone());
    let hold = |value: &str, origin: Origin| {
        let hashed = file == SecretsFile::Pap && value.starts_with('$') && value.matches('$').count() >= 3;
        let kind = if hashed { SecretKind::PasswordHash } else { SecretKind::LoginPassword };
        let held = SecretRecord { secret: Secret::new(value), kind, owner: client.plain(), origin };
        Setting::Stated { value: (!value.is_empty()).then(|| Arc::new(held)), origin }
    };
    if let Some(path) = secret.text.strip_prefix('@').filter(|path| path.starts_with('/')) {
        return match around.find(path, export) {
            Some(elsewhere) => match words(elsewhere.text()).first() {
                Some(word) => hold(&word.text, elsewhere.origin(word.span.clone())),
                None => Setting::Unknown { why: format!("`{path}`, which holds the secret, is empty") },
            },
            None => {
                Setting::Unknown { why: format!("the secret is in `{path}`, which is not among the exports") }
            }
        };
    }
    if file == SecretsFile::Pap && secret.text.as_str() == "@login" {
        return Setting::Unknown { why: "system accounts decide (`@login`)".into() };
    }
    hold(&secret.text, origin)
}

/// The address columns, up to `--`, which starts options.
fn allowed(export: &Export, columns: &[Word], malformed: &mut Vec<MalformedAddress>) -> AllowedAddresses {
    let mut listed: Vec<(IpRange, Origin)> = Vec::new();
    let mut any_entry = false;
    for word in columns.iter().take_while(|word| word.text.as_str() != "--") {
        let origin = export.origin(word.span.clone());
        match word.text.as_str() {
            "-" => break,
            "*" => return AllowedAddresses::Any,
            // Refused addresses take nothing away that later checks rely on; what is allowed stands elsewhere.
            text if text.starts_with('!') => {}
            text => match entry(text) {
                Ok(range) => {
                    any_entry = true;
                    listed.extend(range.map(|range| (range, origin)));
                }
                Err(why) => malformed.push(MalformedAddress { why, origin }),
            },
        }
    }
    if any_entry { AllowedAddresses::Listed(listed) } else { AllowedAddresses::None }
}

/// Whether a word in the address columns is neither an address nor a sign with a meaning there.
fn may_be_secret(word: &Word) -> bool {
    let text = word.text.trim_start_matches('!');
    let numeric = |text: &str| {
        text.matches('.').count() >= 2
            && text
                .bytes()
                .all(|byte| byte.is_ascii_digit() || matches!(byte, b'.' | b'-' | b',' | b'/' | b'+'))
    };
    !matches!(text, "*" | "-" | "--") && !numeric(text)
}

/// One allowed address: an address, `address/length` (a trailing `+` adds the unit's number), or a name.
fn entry(text: &str) -> Result<Option<IpRange>, String> {
    if let Some(net) = addresses::network(text.trim_end_matches('+'), Family::V4) {
        // pppd refuses a length of 0 (set_allowed_addrs takes 1 to 32).
        return if net.prefix_len() == 0 {
            Err(format!("`{text}`: pppd expects a length from 1 to 32"))
        } else {
            Ok(Some(net.into()))
        };
    }
    let numeric = text.bytes().all(|byte| byte.is_ascii_digit() || matches!(byte, b'.' | b'-' | b',' | b'/'));
    if numeric && (text.contains('-') || text.contains(',')) {
        return Err(format!(
            "`{text}`: pppd expects single addresses and networks, one word each; it ignores a range or a comma-separated \
             list"
        ));
    }
    if numeric {
        let dots = text.matches('.').count() >= 2;
        return Err(if dots { addresses::what_is_wrong(text) } else { "this word is not an address".into() });
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{ExportId, LineClass};

    fn of(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/ppp/chap-secrets", text.into());
        read(&export, &ReadContext::default())
    }

    #[test]
    fn columns() {
        for (line, wanted) in [
            ("ann * sesame *", "ann|*|secret|any"),
            (
                "\"an n\" 'pp tp' \"se\\\"same\" 10.4.0.9 10.4.1.0/24",
                "an n|pp tp|secret|10.4.0.9 10.4.1.0-10.4.1.255",
            ),
            ("ann * sesame", "ann|*|secret|none"),
            ("ann * sesame -", "ann|*|secret|none"),
            ("ann * \"\" *", "ann|*|empty|any"),
            ("ann * sesame !10.4.0.1 *", "ann|*|secret|any"),
            ("ann * sesame 10.4.0.9 -- idle 60", "ann|*|secret|10.4.0.9"),
            ("ann * @/etc/ppp/gone *", "ann|*|unknown|any"),
            ("ann * sesame ann.example", "ann|*|secret|"),
            ("ann * sesame 10.4.0.200-225", "ann|*|secret|none|1 malformed"),
            ("ann * sesame 10.4.0.2.5 10.4.0.7", "ann|*|secret|10.4.0.7|1 malformed"),
            ("ann * sesame 10.4.0.2,10.4.0.3", "ann|*|secret|none|1 malformed"),
        ] {
            let reading = of(line);
            assert_eq!(show(&reading.facts.credentials[0]), wanted, "{line}");
        }
    }

    fn show(one: &Credential) -> String {
        let secret = match &one.secret {
            Setting::Stated { value: Some(_), .. } => "secret",
            Setting::Stated { value: None, .. } => "empty",
            _ => "unknown",
        };
        let addresses = match &one.addresses {
            AllowedAddresses::None => "none".into(),
            AllowedAddresses::Any => "any".into(),
            AllowedAddresses::Listed(all) => {
                all.iter().map(|(range, _)| range.to_string()).collect::<Vec<_>>().join(" ")
            }
        };
        let malformed = if one.malformed.is_empty() { "" } else { "|1 malformed" };
        format!("{}|{}|{secret}|{addresses}{malformed}", one.client, one.server)
    }

    #[test]
    fn lines_that_are_no_logins() {
        let reading = of("# ann * sesame *\n\nann *\nbob * pw *\r\n");
        assert_eq!(reading.facts.credentials.len(), 1);
        assert_eq!(reading.ledger.class(3), Some(LineClass::NotUnderstood));
        assert_eq!(reading.ledger.class(4), Some(LineClass::Understood));
    }

    #[test]
    fn a_secret_that_spills_over_is_not_repeated() {
        let reading = of("ann * open 4711 sesame *\n");
        assert_eq!(reading.facts.masked_places.len(), 2);
        assert!(!reading.ledger.notes.iter().any(|note| note.text.contains("4711")));
    }

    #[test]
    fn indirect_secrets_are_followed() {
        let main = Export::new(ExportId(0), "d/chap-secrets", "ann * @/etc/ppp/ann.key *\n".into());
        let other = Export::new(ExportId(1), "d/ann.key", "sesame\n".into());
        let reading = read(&main, &ReadContext::of(vec![&main, &other]));
        assert_eq!(reading.facts.secrets[0].origin, other.origin(0..6));
    }

    #[test]
    fn hashes_in_pap_secrets_are_hashes() {
        let export = Export::new(ExportId(0), "pap-secrets", "ann * $6$salt$abc *\n".into());
        let reading = read(&export, &ReadContext::default());
        assert_eq!(reading.facts.secrets[0].kind, SecretKind::PasswordHash);
    }
}
