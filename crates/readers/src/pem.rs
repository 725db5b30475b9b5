//! Certificates and keys as text: blocks between `-----BEGIN …-----` and `-----END …-----` (RFC 7468), in files of their own or inside a
//! configuration.

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::x509;
use base64::Engine;
use der::asn1::UintRef;
use der::{Decode, Header, SliceReader, Tag};
use std::sync::Arc;
use trevlin_model::certificate::{Certificate, DhParameters, PrivateKey, UnreadableBlock};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, LineClass, Origin, Secret, SecretRecord};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "pem", title: "certificates and keys", manual: "RFC 7468, RFC 5280", recognise, read };

/// Number of authorities from which on a file is a store of public ones, not a list of the organisation's own.
const STORE: usize = 12;

/// Folders where systems keep the public authorities (update-ca-certificates(8), update-ca-trust(8)).
const STORE_FOLDERS: [&str; 4] =
    ["etc/ssl/certs/", "usr/share/ca-certificates/", "etc/pki/ca-trust/", "etc/pki/tls/certs/"];

/// One block.
struct Block<'a> {
    label: &'a str,
    /// All lines of it.
    text: &'a str,
    closed: bool,
}

impl Block<'_> {
    /// Base64 without headers and blanks: what two copies of one block have in common.
    fn body(&self) -> String {
        let lines =
            self.text.lines().map(str::trim).filter(|line| !line.starts_with('-') && !line.contains(':'));
        lines.collect()
    }

    fn is_private_key(&self) -> bool {
        self.label.ends_with("PRIVATE KEY")
    }
}

fn label(line: &str) -> Option<&str> {
    line.trim().strip_prefix("-----BEGIN ")?.strip_suffix("-----")
}

/// Whether blocks with this label are read here; others (parameters, static keys, messages) are left to other readers.
fn is_ours(label: &str) -> bool {
    matches!(label, "CERTIFICATE" | "X509 CERTIFICATE" | "TRUSTED CERTIFICATE")
        || label.ends_with("PRIVATE KEY")
        || is_parameters(label)
}

/// Whether blocks with this label are parameters for a key exchange (PKCS #3; X9.42).
fn is_parameters(label: &str) -> bool {
    matches!(label, "DH PARAMETERS" | "X9.42 DH PARAMETERS")
}

/// Size of the prime of such a block: the first number of a sequence.
fn prime_bits(block: &Block<'_>) -> Option<u32> {
    let bytes = base64::engine::general_purpose::STANDARD.decode(block.body()).ok()?;
    let mut reader = SliceReader::new(&bytes).ok()?;
    let header = Header::decode(&mut reader).ok()?;
    if header.tag() != Tag::Sequence {
        return None;
    }
    let prime = UintRef::decode(&mut reader).ok()?;
    let first = prime.as_bytes().first()?;
    u32::try_from(prime.as_bytes().len() * 8).ok()?.checked_sub(first.leading_zeros())
}

fn blocks(text: &str) -> Vec<Block<'_>> {
    let mut found = Vec::new();
    let mut at = 0;
    let mut open: Option<(usize, &str)> = None;
    for line in text.split_inclusive('\n') {
        let trimmed = line.trim();
        let end = at + line.trim_end().len();
        if let Some((start, name)) = open {
            if trimmed.starts_with("-----END ") {
                found.push(Block { label: name, text: &text[start..end], closed: true });
                open = None;
            }
        } else if let Some(name) = label(line) {
            open = Some((at + line.len() - line.trim_start().len(), name));
        }
        at += line.len();
    }
    if let Some((start, label)) = open {
        found.push(Block { label, text: text[start..].trim_end(), closed: false });
    }
    found
}

fn recognise(export: &Export) -> Recognition {
    // A configuration that has blocks inside begins with something else.
    let mut lines = export.lines().take(TELLING_LINES);
    let telling = lines.find_map(|line| {
        let text = line.text.trim();
        let name = label(text);
        // Text that openssl(1) and administrators write before a block: names, attributes, a dump of the certificate.
        let in_front = text.is_empty()
            || text.starts_with(['#', '='])
            || text.contains(['=', ':'])
            || text.bytes().all(|byte| byte.is_ascii_hexdigit() || byte == b' ');
        match name {
            Some(name) => Some(is_ours(name) || name.ends_with("PUBLIC KEY") || name.ends_with("PARAMETERS")),
            None if text.starts_with('<') => Some(false),
            None if in_front => None,
            None => (export.line_count() > 200 || !export.text().contains("-----BEGIN CERTIFICATE-----"))
                .then_some(false),
        }
    });
    if telling == Some(true) { Recognition::Content } else { Recognition::No }
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    // Text around the blocks describes them.
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    take(export, export.text(), &format!("private key in {}", export.file_name()), &mut reading);
    reading
}

/// Takes every certificate and private key of a piece of an export.
pub(crate) fn take(export: &Export, text: &str, owner: &str, reading: &mut Reading) {
    let all = blocks(text);
    let is_certificate =
        |block: &&Block<'_>| !block.is_private_key() && !is_parameters(block.label) && is_ours(block.label);
    let authorities = all.iter().filter(is_certificate).count();
    let store = authorities >= STORE || STORE_FOLDERS.iter().any(|folder| export.path().contains(folder));
    for block in all.iter().filter(|block| is_ours(block.label)) {
        let origin = export.origin_of(block.text);
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        if block.is_private_key() {
            // Its lines were taken out of the export: what is left is no secret, and does not show a passphrase.
            if block.closed && block.body().is_empty() {
                book.class(origin, LineClass::Ignored);
                continue;
            }
            if !block.closed {
                book.not_understood(origin, "`-----END …-----` is missing: the key is truncated");
                reading.facts.unreadable_blocks.push(UnreadableBlock { is_key: true, origin });
            } else {
                book.understood(origin);
            }
            let held = Arc::new(SecretRecord {
                secret: Secret::new(block.body()),
                kind: SecretKind::PrivateKey,
                owner: owner.to_owned(),
                origin,
            });
            reading.facts.secrets.push(Arc::clone(&held));
            if block.closed {
                reading.facts.private_keys.push(PrivateKey { encrypted: encrypted(block), held, origin });
            }
            continue;
        }
        if is_parameters(block.label) {
            match prime_bits(block) {
                Some(bits) => {
                    book.understood(origin);
                    reading.facts.dh_parameters.push(DhParameters { bits, origin });
                }
                None => book
                    .not_understood(origin, "these parameters cannot be read; please export the file again"),
            }
            continue;
        }
        match certificate(block, origin) {
            Ok(mut one) => {
                // A certificate of one's own may lie in the same folder; public authorities signed themselves or
                // each other.
                one.in_trust_store = store && one.is_authority;
                book.understood(origin);
                reading.facts.certificates.push(one);
            }
            Err(why) => {
                book.not_understood(origin, format!("{why}; please export the file again"));
                reading.facts.unreadable_blocks.push(UnreadableBlock { is_key: false, origin });
            }
        }
    }
}

/// Whether a passphrase protects a key: by its label (PKCS #8), by a header (RFC 1421, 4.6.1.1), or by the cipher that
/// OpenSSH's own form names (PROTOCOL.key).
fn encrypted(block: &Block<'_>) -> bool {
    if block.label == "ENCRYPTED PRIVATE KEY" || block.text.contains("Proc-Type: 4,ENCRYPTED") {
        return true;
    }
    if block.label != "OPENSSH PRIVATE KEY" {
        return false;
    }
    const MAGIC: &[u8] = b"openssh-key-v1\0";
    let body = block.body();
    let start = body.get(..body.len().min(64) / 4 * 4).unwrap_or_default();
    let bytes = base64::engine::general_purpose::STANDARD.decode(start).unwrap_or_default();
    let Some(rest) = bytes.strip_prefix(MAGIC) else { return false };
    let Some((length, rest)) = rest.split_first_chunk::<4>() else { return false };
    rest.get(..u32::from_be_bytes(*length) as usize).is_some_and(|cipher| cipher != b"none")
}

fn certificate(block: &Block<'_>, origin: Origin) -> Result<Certificate, &'static str> {
    const BROKEN: &str = "this block is not a certificate";
    if !block.closed {
        return Err("`-----END …-----` is missing: the certificate is truncated");
    }
    let der = base64::engine::general_purpose::STANDARD.decode(block.body()).map_err(|_| BROKEN)?;
    x509::certificate(&der, origin).ok_or(BROKEN)
}
