//! `l2tp-secrets` (xl2tpd(8), l2tp-secrets): secrets shared by the two ends of an L2TP tunnel, a line with the names of both.

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use std::sync::Arc;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, Secret, SecretRecord};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "l2tp-secrets",
    title: "secrets of L2TP tunnels",
    manual: "xl2tpd(8)",
    // Its lines resemble those of other secrets lists, so its name decides.
    recognise: |export| {
        if export.file_name() == "l2tp-secrets" { Recognition::Content } else { Recognition::No }
    },
    read,
};

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    for line in export.lines() {
        let text = line.text.split('#').next().unwrap_or_default().trim();
        if text.is_empty() {
            continue;
        }
        let origin = export.origin_of(text);
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let words: Vec<&str> = text.split_whitespace().collect();
        let [ours, theirs, secret] = words.as_slice() else {
            book.not_understood(origin, "expected `OUR-NAME THEIR-NAME SECRET`");
            reading.facts.masked_places.push(origin);
            continue;
        };
        book.understood(origin);
        let secret = secret.trim_matches('"');
        let name = |one: &str| if one == "*" { "any peer".to_owned() } else { one.to_owned() };
        reading.facts.secrets.push(Arc::new(SecretRecord {
            secret: Secret::new(secret),
            kind: SecretKind::SharedKey,
            owner: format!("{} and {}", name(ours), name(theirs)),
            origin: export.origin_of(secret),
        }));
    }
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn lines() {
        let export = Export::new(
            ExportId(0),
            "d/etc/xl2tpd/l2tp-secrets",
            "# us them secret\n* * openS3same\nwrong\n".into(),
        );
        let reading = read(&export, &ReadContext::default());
        assert_eq!(reading.facts.secrets[0].owner, "any peer and any peer");
        assert_eq!((reading.facts.masked_places.len(), reading.ledger.notes.len()), (1, 1));
        assert!(!format!("{reading:?}").contains("openS3same"));
    }
}
