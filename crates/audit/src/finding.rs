//! Findings and information requests of an audit.

use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::sync::Arc;
use trevlin_checks::check::Cited;
use trevlin_checks::subject::Subject;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::assemble::DeviceId;
use trevlin_estate::evidence::Evidence;
use trevlin_model::DeviceKind;

/// One export in the outcome.
#[derive(Debug, Clone, Serialize)]
pub struct ExportSummary {
    /// Path below the estate.
    pub path: Arc<str>,
    /// Format, or `unknown`.
    pub format: &'static str,
    /// Lines in all.
    pub lines: u32,
    /// Lines that became facts.
    pub understood: u32,
    /// Lines that did not and might matter.
    pub not_understood: u32,
    /// Messages of the reader.
    #[serde(skip)]
    pub notes: Vec<NoteSummary>,
}

/// A note of a reader.
#[derive(Debug, Clone)]
pub struct NoteSummary {
    /// Line, from 1.
    pub line: u32,
    /// The problem, the expected content, and the remedy.
    pub text: Arc<str>,
}

/// One device in the outcome.
#[derive(Debug, Clone, Serialize)]
pub struct DeviceSummary {
    /// Name.
    pub name: String,
    /// Kind.
    pub kind: DeviceKind,
    /// Its exports.
    pub exports: Vec<ExportSummary>,
}

/// Status of a finding.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Status {
    /// Not accepted, or no longer.
    Open,
    /// Accepted, and the acceptance is in force.
    Accepted,
}

/// Something that is wrong.
#[derive(Debug, Clone, Serialize)]
pub struct Finding {
    /// Check.
    pub check: &'static str,
    /// Area.
    pub area: Area,
    /// Severity in its context.
    pub severity: Severity,
    /// Device of the first evidence.
    pub device: Arc<str>,
    /// A line for this case.
    pub title: Arc<str>,
    /// Description.
    pub detail: Arc<str>,
    /// The context that made the severity.
    pub why_this_severity: Arc<str>,
    /// Places, the one to cite first.
    pub evidence: Vec<Evidence>,
    /// How to fix it.
    pub remedy: &'static str,
    /// Standards and manuals.
    pub references: Cited,
    /// The same for the same fault from run to run, whatever line it moved to.
    pub fingerprint: String,
    /// Its status.
    pub status: Status,
    /// Who took responsibility for it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub acceptance: Option<Box<Acceptance>>,
    /// Why it matters.
    #[serde(skip)]
    pub why: &'static str,
    /// Every device it has evidence from.
    #[serde(skip)]
    pub devices: Vec<Arc<str>>,
    /// The subject with its device; none for findings from answers in the estate file.
    #[serde(skip)]
    pub about: Option<(DeviceId, Subject)>,
}

/// An information request in parts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RequestParts {
    /// Its beginning: `Please provide X`.
    pub beginning: Arc<str>,
    /// Its reason: a clause after "it decides", or a main clause.
    pub reason: Arc<str>,
    /// Whether the reason follows "it decides".
    pub decides: bool,
}

/// Information that the exports do not contain.
#[derive(Debug, Clone, Serialize)]
pub struct InformationRequest {
    /// Check.
    pub check: &'static str,
    /// Area.
    pub area: Area,
    /// Device.
    pub device: Arc<str>,
    /// The request: the information to provide, and the reason.
    pub question: Arc<str>,
    /// The same in parts, where several checks request one thing.
    #[serde(skip)]
    pub parts: Option<RequestParts>,
    /// Lines that raise the request.
    pub evidence: Vec<Evidence>,
    /// Whether it concerns several devices, and so the administrators of all.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub estate_wide: bool,
    /// Files that would answer it and are not among the exports.
    #[serde(skip)]
    pub files: Vec<String>,
    /// The subject, as in the fingerprint of a finding, with its device.
    #[serde(skip)]
    pub about: (DeviceId, Subject),
}

impl Finding {
    /// The line that an auditor would cite.
    pub(crate) fn first_place(&self) -> Option<(&str, u32)> {
        self.evidence.first().map(|first| (&*first.path, first.line))
    }
}

/// Number of earlier findings with the same fingerprint, by its content.
pub(crate) type Prints = BTreeMap<[u8; 32], u32>;

/// A fingerprint of the subject, independent of its place. A second finding with the same subject gets a number, so that each is unique.
pub(crate) fn fingerprint(check: &str, device: &str, subject: &Subject, seen: &mut Prints) -> String {
    let key = format!("{check}\n{device}\n{}", subject.key());
    let first: [u8; 32] = Sha256::digest(key.as_bytes()).into();
    let times = seen.entry(first).and_modify(|times| *times += 1).or_insert(0);
    let print = if *times == 0 { first } else { Sha256::digest(format!("{key}\n{times}").as_bytes()).into() };
    print.iter().take(16).fold(String::with_capacity(32), |text, byte| text + &format!("{byte:02x}"))
}

/// Who answers for a finding.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Acceptance {
    /// Who.
    pub owner: String,
    /// Why it may stay.
    pub reason: String,
    /// The last day on which that holds, as `2027-03-31`.
    pub until: String,
    /// Whether that day has passed: the finding is open again.
    pub expired: bool,
}
