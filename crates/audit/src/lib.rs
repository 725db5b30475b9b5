//! Puts exports together into an estate, judges it, and says what is wrong: the part between facts and outputs.
//!
//! Everything here is a function of the exports: no clock, no file, no order that could change between runs.
//!
//! ```
//! use trevlin_audit::{Analyses, Estate, Input, ValidEstateFile, Yardstick, audit};
//! use trevlin_model::{Export, ExportId};
//! use trevlin_readers::{Surroundings, recognise};
//!
//! let export = Export::new(ExportId(0), "dial-in/etc/pptpd.conf", "remoteip 10.4.0.10-20\n".into());
//! let reader = recognise(&export).reader.unwrap();
//! let reading = (reader.read)(&export, &Surroundings::default());
//! let (facts, ledger) = (reading.facts, reading.ledger);
//! let input = Input { export, folder: "dial-in".into(), format: Some(reader.name), facts, ledger };
//! let estate = Estate::assemble(vec![input], &ValidEstateFile::default());
//! let outcome = audit(&Analyses::of(estate), &Yardstick::on(jiff::civil::date(2026, 11, 25)));
//! assert!(outcome.findings().any(|one| one.check == "tunnels/pptp-answers"));
//! ```

mod accepted;
pub mod access;
mod algorithms;
mod answered;
mod area;
mod certificates;
mod check;
pub mod checks;
pub mod compare;
mod context;
mod estate;
mod estate_file;
mod evidence;
pub mod exposure;
pub mod factors;
mod host;
pub mod intent_rows;
pub mod intents;
mod l2tp;
mod layout;
mod management;
mod map;
mod outcome;
mod pairs;
mod people;
pub mod plan;
mod prose;
mod rated;
mod rating;
pub mod reach;
#[cfg(test)]
mod reworded;
pub mod rules;
pub mod services;
mod serving;
pub mod shape;
mod special;
mod subject;
pub mod survey;
pub mod tunnels;
mod verdicts;
pub mod views;
mod ways;
mod whence;
mod words;
mod yardstick;

pub use accepted::{Acceptance, AcceptanceEntry};
pub use answered::AnswerEntry;
pub use area::{Area, Severity};
pub use check::{Answer, Check, Fail, Question, Run, Verdict};
pub use context::Analyses;
pub use estate::{DialIn, Estate, ExportRecord, Input, LeftOutFile, OutsideInterface, OutsideReason};
pub use estate_file::{
    Accept, Accepted, DeviceEntry, EstateFileError, GivenAnswer, Intent, InterfacePair, SHORTEST_FINGERPRINT,
    ValidEstateFile, Wanted,
};
pub use evidence::Evidence;
pub use layout::{ESTATE_FILE, Found, SeveralInOne, device_folders, several_in_one};
pub use map::EstateMap;
pub use outcome::{
    DeviceSummary, ExportSummary, Finding, NoteSummary, OpenQuestion, Outcome, Selection, Status, Summary,
};
pub use people::names as people_and_devices;
pub use prose::Prose;
pub use rating::{Adjustment, Rating};
pub use subject::{Subject, SubjectKind};
pub use verdicts::{
    ForwardVerdict, IntentVerdict, LoginFactor, LoginVerdict, OpeningTo, RuleVerdict, TunnelVerdict,
    joined_factors,
};
pub use yardstick::{Marks, ReadyMade, Yardstick, YardstickFile, YardstickPart, YardstickRow, ready_made};

/// Loads what judging needs: tables, and word lists for grading secrets. To be called beside other work; they are loaded by themselves
/// otherwise.
pub fn prepare() {
    algorithms::prepare();
    services::prepare();
    trevlin_model::secret::prepare();
}

/// Runs every check over an estate.
#[must_use]
pub fn audit(estate: &Analyses, yardstick: &Yardstick) -> Outcome {
    outcome::assemble(estate, yardstick, &Area::ALL)
}

/// Runs the checks of some areas over an estate.
#[must_use]
pub fn audit_areas(estate: &Analyses, yardstick: &Yardstick, areas: &[Area]) -> Outcome {
    outcome::assemble(estate, yardstick, areas)
}

/// Those of a list in order of device that are of one.
fn of_device<T>(all: &[T], device: usize, whose: impl Fn(&T) -> usize) -> &[T] {
    let from = all.partition_point(|one| whose(one) < device);
    let of_it = all[from..].partition_point(|one| whose(one) == device);
    &all[from..from + of_it]
}
