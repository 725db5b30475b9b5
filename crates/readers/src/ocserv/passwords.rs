//! The list of names, groups and password hashes that ocpasswd(8) keeps.

use crate::reader::{LineRecorder, Reader, Reading, Recognition, TELLING_LINES};
use std::sync::Arc;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, Login, LoginList, Secret, SecretRecord};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "ocpasswd",
    title: "password list of the OpenConnect server",
    manual: "ocpasswd(8)",
    recognise,
    read: |export, _| read(export),
};

fn entry(text: &str) -> Option<(&str, &str)> {
    let mut fields = text.split(':');
    let (name, _, hash) = (fields.next()?, fields.next()?, fields.next()?);
    (fields.next().is_none() && !name.is_empty() && !name.contains(' ')).then_some((name, hash))
}

fn recognise(export: &Export) -> Recognition {
    let lines = || {
        export
            .lines()
            .take(TELLING_LINES)
            .filter(|line| !line.text.trim().is_empty() && !line.text.starts_with('#'))
    };
    let hashed = |hash: &str| hash.trim_start_matches('!').starts_with('$');
    if lines().next().is_some() && lines().all(|line| entry(line.text).is_some_and(|(_, hash)| hashed(hash)))
    {
        Recognition::Content
    } else if export.file_name().contains("ocpasswd") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

fn read(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    for line in export.lines() {
        let text = line.text.trim_end();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let origin = export.origin_of(text);
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let Some((name, field)) = entry(text) else {
            book.not_understood(origin, "expected `name:groups:hash`");
            reading.facts.masked_places.push(origin);
            continue;
        };
        book.understood(origin);
        let hash = field.trim_start_matches('!');
        let held = Arc::new(SecretRecord {
            secret: Secret::new(hash),
            kind: SecretKind::PasswordHash,
            owner: name.to_owned(),
            origin: export.origin_of(hash),
        });
        reading.facts.secrets.push(Arc::clone(&held));
        // A leading `!` locks the entry.
        if !field.starts_with('!') && !hash.is_empty() {
            reading.facts.logins.push(Login {
                user: name.to_owned(),
                list: LoginList::LocalFile(export.path().to_owned()),
                daemon: None,
                service: "OpenConnect server".into(),
                secret: Some(held),
                certain: true,
                expires: None,
                origin,
            });
        }
    }
    reading
}
