//! Accepted findings: shown as such, and counted separately.

pub use crate::finding::Acceptance;
use crate::run::{Finding, Status};
use jiff::civil::Date;
use serde::Serialize;
use trevlin_estate::config::{Accept, Accepted};

/// Result of an acceptance entry of the estate file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct AcceptanceEntry {
    /// Its line in the estate file, from 1.
    pub line: usize,
    /// The check or the fingerprint that it names.
    pub accepts: String,
    /// The device that it is limited to.
    pub device: Option<String>,
    /// Who answers, why and until when.
    #[serde(flatten)]
    pub acceptance: Acceptance,
    /// Number of findings it covers. Zero: the findings are gone, or it never matched any.
    pub findings: usize,
}

/// Marks accepted findings, and returns the result of each entry. Where several match, the one in force that lasts longest counts.
pub(crate) fn apply(accepts: &[Accept], findings: &mut [Box<Finding>], as_of: Date) -> Vec<AcceptanceEntry> {
    let mut entries: Vec<AcceptanceEntry> = accepts.iter().map(|one| entry(one, as_of)).collect();
    for finding in findings {
        let fitting = accepts.iter().zip(&mut entries).filter(|(one, _)| fits(one, finding));
        let best = fitting
            .map(|(one, entry)| {
                entry.findings += 1;
                (one.until, &entry.acceptance)
            })
            .reduce(|best, other| if other.0 > best.0 { other } else { best });
        if let Some((_, acceptance)) = best {
            finding.status = if acceptance.expired { Status::Open } else { Status::Accepted };
            finding.acceptance = Some(Box::new(acceptance.clone()));
        }
    }
    entries
}

fn entry(one: &Accept, as_of: Date) -> AcceptanceEntry {
    AcceptanceEntry {
        line: one.line,
        accepts: match &one.what {
            Accepted::Check(id) => (*id).to_owned(),
            Accepted::Fingerprint(print) => print.clone(),
        },
        device: one.device.clone(),
        acceptance: Acceptance {
            owner: one.owner.clone(),
            reason: one.reason.clone(),
            until: one.until.to_string(),
            expired: one.until < as_of,
        },
        findings: 0,
    }
}

fn fits(one: &Accept, finding: &Finding) -> bool {
    let what = match &one.what {
        Accepted::Check(id) => finding.check == *id,
        Accepted::Fingerprint(print) => finding.fingerprint.starts_with(print.as_str()),
    };
    what && one.device.as_ref().is_none_or(|device| **device == *finding.device)
}
