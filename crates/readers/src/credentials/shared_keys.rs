//! Keys that both ends of a tunnel share, in files of their own: static keys of OpenVPN (openvpn(8), --secret, --tls-auth, --tls-crypt) and
//! lists of identities and keys for TLS (stunnel(8), PSKsecrets).

use super::list;
use crate::reader::{LineRecorder, Reader, Reading, Recognition};
use crate::serving::entries;
use std::sync::Arc;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, LineClass, Secret, SecretRecord};

/// The reader of static keys of OpenVPN.
pub(crate) const OPENVPN_KEY: Reader = Reader {
    name: "openvpn-key",
    title: "static key of OpenVPN",
    manual: "openvpn(8), --secret, --tls-auth, --tls-crypt-v2",
    recognise: |export| {
        if entries(export).next().is_some_and(is_frame) { Recognition::Content } else { Recognition::No }
    },
    read: |export, _| read_key(export),
};

/// The reader of lists of keys for TLS.
pub(crate) const TLS_KEYS: Reader = Reader {
    name: "tls-keys",
    title: "pre-shared keys for TLS",
    manual: "stunnel(8), PSKsecrets",
    // Names with something behind a colon are in many files: the name must agree.
    recognise: |export| {
        let named = export.file_name().to_ascii_lowercase().contains("psk");
        let mut lines = entries(export).map(key_line).peekable();
        if named && lines.peek().is_some() && lines.all(|line| line.is_some()) {
            Recognition::Content
        } else {
            Recognition::No
        }
    },
    read: |export, _| {
        let expected = "expected `identity:key`, the key of at least 16 characters";
        list(export, SecretKind::PreSharedKey, expected, key_line)
    },
};

/// The frame before the key: `-----BEGIN OpenVPN Static key V1-----`, `… tls-crypt-v2 client key-----`.
fn is_frame(line: &str) -> bool {
    line.strip_prefix("-----BEGIN OpenVPN ").and_then(|rest| rest.strip_suffix("-----")).is_some()
}

fn read_key(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    let text = export.text();
    let Some(start) = text.find("-----BEGIN OpenVPN ") else { return reading };
    let end = text[start..].find("-----END ").map_or(text.len(), |end| {
        let frame = start + end;
        text[frame..].find('\n').map_or(text.len(), |line| frame + line)
    });
    let block = text[start..end].trim_end();
    let origin = export.origin_of(block);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    if block.contains("-----END ") {
        book.understood(origin);
    } else {
        book.not_understood(origin, "`-----END …-----` is missing: the key is truncated");
    }
    // As inside a profile: the lines of the key, comments left out.
    let value: Vec<&str> =
        block.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#')).collect();
    reading.facts.secrets.push(Arc::new(SecretRecord {
        secret: Secret::new(value.join("\n")),
        kind: SecretKind::SharedKey,
        owner: format!("static key in {}", export.file_name()),
        origin,
    }));
    reading
}

/// Identity and key. A key of fewer than 16 bytes is refused (stunnel(8), PSKsecrets).
fn key_line(text: &str) -> Option<(&str, &str)> {
    let (identity, key) = text.split_once(':')?;
    (!identity.is_empty() && key.len() >= 16 && !key.contains(char::is_whitespace)).then_some((identity, key))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ReadContext;
    use trevlin_model::ExportId;

    #[test]
    fn keys_in_files_of_their_own() {
        for (path, text, wanted) in [
            (
                "d/ta.key",
                "#\n# 2048 bit OpenVPN static key\n#\n-----BEGIN OpenVPN Static key V1-----\n00112233445566778899aabbccddeeff\n-----END OpenVPN Static key V1-----\n",
                Some("openvpn-key static key in ta.key"),
            ),
            (
                "d/etc/stunnel/psk.txt",
                "# quay\nquay1:00112233445566778899aabbccddeeff\n",
                Some("tls-keys quay1"),
            ),
            ("d/etc/stunnel/psk.txt", "a line of prose\n", None),
            ("d/etc/stunnel/users", "quay1:00112233445566778899aabbccddeeff\n", None),
        ] {
            let export = Export::new(ExportId(0), path, text.into());
            let reader = crate::recognise(&export).reader;
            let told = reader.map(|reader| {
                let reading = (reader.read)(&export, &ReadContext::of(vec![&export]));
                format!("{} {}", reader.name, reading.facts.secrets[0].owner)
            });
            assert_eq!(told.as_deref(), wanted, "{text}");
        }
    }
}
