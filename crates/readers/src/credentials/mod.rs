//! Files that hold nothing but credentials: password lists of web servers, logins that programs use elsewhere, seeds of one-time codes,
//! shared keys of TLS and OpenVPN.

pub(crate) mod client_logins;
pub(crate) mod code_seeds;
pub(crate) mod htpasswd;
pub(crate) mod shared_keys;

use crate::reader::{LineRecorder, Reading};
use crate::serving::{entries, hold};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, LineClass};

/// Reads a list with one owner and one secret on each line; lines of another form are reported with the expected one, and masked.
fn list(
    export: &Export,
    kind: SecretKind,
    expected: &str,
    line: impl Fn(&str) -> Option<(&str, &str)>,
) -> Reading {
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    for text in entries(export) {
        let origin = export.origin_of(text);
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        match line(text) {
            Some((owner, secret)) => {
                book.understood(origin);
                hold(export, &mut reading.facts, secret, kind, owner);
            }
            None => {
                book.not_understood(origin, expected);
                reading.facts.masked_places.push(origin);
            }
        }
    }
    reading
}
