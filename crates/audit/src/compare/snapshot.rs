//! An audit as it is compared: made from its JSON, whether that was just made or saved months ago.

use super::controls::SeenCoverage;
use crate::run::Status;
use crate::tables::exposure::ExposureSheet;
use serde::{Deserialize, Serialize};
use trevlin_analysis::verdicts::OpeningTo;
use trevlin_estate::area::Severity;

/// An audit. Read from the JSON of the schema `trevlin-audit/1`; keys that are not needed are passed over.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
pub struct Snapshot {
    /// The date for which it was judged.
    pub as_of: String,
    /// Devices.
    pub devices: Vec<SeenDevice>,
    /// Findings, accepted ones too.
    pub findings: Vec<SeenFinding>,
    /// Information requests.
    #[serde(rename = "open_questions")]
    pub questions: Vec<SeenQuestion>,
    /// Subjects of the checks; results of earlier versions do not contain them.
    #[serde(default)]
    pub coverage: Option<SeenCoverage>,
    /// Exposure to the Internet, which the JSON does not contain.
    #[serde(skip)]
    pub exposed: Option<Vec<Exposed>>,
}

/// A device.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct SeenDevice {
    /// Name.
    pub name: String,
    /// Its exports.
    pub exports: Vec<SeenExport>,
}

/// An export.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct SeenExport {
    /// Path below the estate.
    pub path: String,
}

/// A finding.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenFinding {
    /// Check.
    pub check: String,
    /// Severity.
    pub severity: Severity,
    /// Device.
    pub device: String,
    /// Title.
    pub title: String,
    /// Places, the one to cite first.
    pub evidence: Vec<SeenEvidence>,
    /// The same from run to run.
    pub fingerprint: String,
    /// Whether it was accepted.
    pub status: Status,
}

/// A place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenEvidence {
    /// Path below the estate.
    pub path: String,
    /// First line, from 1.
    pub line: u32,
    /// The lines, secrets masked.
    pub excerpt: String,
}

/// An information request.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenQuestion {
    /// Check.
    pub check: String,
    /// Device.
    pub device: String,
    /// The request.
    pub question: String,
}

/// An exposed service or opening.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Exposed {
    /// The device.
    pub device: String,
    /// What, in words.
    pub what: String,
    /// Its protection: the word for a service, `open` for permitted traffic without a known service.
    pub protection: String,
    /// Place among those words, the worst first.
    #[serde(skip)]
    pub rank: usize,
}

impl Snapshot {
    /// Number of open findings of a severity.
    pub(crate) fn open(&self, severity: Severity) -> usize {
        self.findings.iter().filter(|one| one.severity == severity && one.status == Status::Open).count()
    }

    /// Adds the exposure to the Internet.
    pub fn add_exposure(&mut self, sheet: &ExposureSheet) {
        let mut all: Vec<Exposed> = sheet
            .reached
            .iter()
            .map(|one| Exposed {
                device: one.device.clone(),
                what: format!("{} at {}", one.service.name, one.called_at.join(", ")),
                protection: one.protection.word().to_owned(),
                rank: one.protection as usize,
            })
            .collect();
        all.extend(sheet.openings.iter().map(|one| {
            let to = match one.to {
                OpeningTo::Device => "itself".to_owned(),
                _ => one.addresses.join(", "),
            };
            Exposed {
                device: one.device.clone(),
                what: format!(
                    "{} to {to}",
                    one.at.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
                ),
                protection: "open".to_owned(),
                rank: trevlin_analysis::exposure::Protection::ALL.len(),
            }
        }));
        self.exposed = Some(all);
    }
}
