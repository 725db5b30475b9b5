//! Audits an estate: runs the checks, cites evidence, holds acceptances and answers against it, compares two audits, and makes the rows
//! of every table.
//!
//! Everything here is a function of the exports: no clock, no file, no order that could change between runs.
//!
//! ```
//! use trevlin_audit::{Analyses, Estate, Input, ValidEstateFile, Baseline, audit};
//! use trevlin_model::{Export, ExportId};
//! use trevlin_readers::{ReadContext, recognise};
//!
//! let export = Export::new(ExportId(0), "dial-in/etc/pptpd.conf", "remoteip 10.4.0.10-20\n".into());
//! let reader = recognise(&export).reader.unwrap();
//! let reading = (reader.read)(&export, &ReadContext::default());
//! let (facts, ledger) = (reading.facts, reading.ledger);
//! let input = Input { export, folder: "dial-in".into(), format: Some(reader.name), facts, ledger };
//! let estate = Estate::assemble(vec![input], &ValidEstateFile::default());
//! let outcome = audit(&Analyses::of(estate), &Baseline::on(jiff::civil::date(2026, 11, 25)));
//! assert!(outcome.findings().any(|one| one.check == "tunnels/pptp"));
//! ```

mod accepted;
mod answers;
mod checksums;
pub mod compare;
pub mod coverage;
mod finding;
#[cfg(test)]
mod reworded;
mod run;
pub mod survey;
pub mod tables;
mod tested;

pub use accepted::{Acceptance, AcceptanceEntry};
pub use answers::AnswerEntry;
pub use checksums::ManifestRow;
pub use finding::RequestParts;
pub use run::{
    DeviceSummary, ExportSummary, Finding, InformationRequest, NoteSummary, Outcome, Selection, Status,
    Summary, audit, audit_areas,
};
pub use tested::{AnswerCounts, Tested, TestedSummary};
pub use trevlin_analysis::context::Analyses;
pub use trevlin_analysis::incomplete::IncompleteRow;
pub use trevlin_analysis::map::EstateMap;
pub use trevlin_analysis::verdicts::{
    ForwardVerdict, IntentVerdict, LoginFactor, LoginVerdict, OpeningTo, RuleVerdict, TunnelVerdict,
    joined_factors,
};
pub use trevlin_analysis::{
    addresses, exposure, exposures, filter_review, intents, logins, reachability, services, topology,
};
pub use trevlin_checks::catalogues::{self, Catalogue, Control};
pub use trevlin_checks::check::{Answer, Check, Cited, Fail, Held, HeldBy, Need, Question, Run, Verdict};
pub use trevlin_checks::rating::{Adjustment, Rating};
pub use trevlin_checks::registry as checks;
pub use trevlin_checks::subject::{Subject, SubjectKind};
pub use trevlin_estate::area::{Area, Severity};
pub use trevlin_estate::assemble::{
    DeviceId, DialIn, Estate, ExportRecord, Input, LeftOutFile, OutsideInterface, OutsideReason,
};
pub use trevlin_estate::baseline::{
    Baseline, BaselineFile, BaselinePart, BaselineRow, PredefinedBaseline, Thresholds, ready_made,
};
pub use trevlin_estate::config::{
    Accept, Accepted, DeviceEntry, EstateFileError, GivenAnswer, Intent, InterfacePair, ReportEntry,
    SHORTEST_FINGERPRINT, Sample, Scope, ValidEstateFile, Wanted,
};
pub use trevlin_estate::evidence::Evidence;
pub use trevlin_estate::identities::names as people_and_devices;
pub use trevlin_estate::layout::{ESTATE_FILE, Found, SeveralInOne, device_folders, several_in_one};
pub use trevlin_estate::prose::Prose;

/// Loads tables, and the word lists for grading secrets. Call it in parallel to other work; otherwise they are loaded on first use.
pub fn prepare() {
    trevlin_analysis::crypto::algorithms::prepare();
    services::prepare();
    trevlin_model::secret::prepare();
}
