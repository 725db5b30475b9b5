//! Arguments of the commands for results: reports, requests, accepted findings, the baseline.

use super::{Format, Judging, Selection, date};
use clap::builder::{PossibleValue, PossibleValuesParser};
use clap::{Args, ValueEnum};
use jiff::civil::Date;
use std::path::PathBuf;
use trevlin_audit::{ReportEntry, Severity};
use trevlin_model::written::kept;

#[derive(Debug, Args)]
pub(crate) struct Report {
    /// Folders and files with exports
    #[arg(help_heading = "What to read", required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Set the file or folder to write, or - for standard output
    #[arg(long, help_heading = "Output", value_name = "DIR_OR_FILE")]
    pub(crate) to: PathBuf,
    /// Set the report format (several, separated by commas, into a folder)
    #[arg(long, help_heading = "Output", value_enum, value_delimiter = ',')]
    pub(crate) format: Vec<ReportFormat>,
    /// Overwrite existing files, and permit writing among the exports
    #[arg(long, help_heading = "Output")]
    pub(crate) force: bool,
    #[command(flatten)]
    pub(crate) selection: Selection,
    /// Show the controls of a catalogue (repeatable) [default: those of the scope, or iso-27002-2022]
    #[arg(long, help_heading = "Selection", value_name = "NAME", value_delimiter = ',')]
    pub(crate) controls: Vec<String>,
    #[command(flatten)]
    pub(crate) judging: Judging,
    #[command(flatten)]
    pub(crate) front: Front,
}

/// The front page of a report; each overrides `[report]` of trevlin.toml.
#[derive(Debug, Clone, Args)]
pub(crate) struct Front {
    /// Set the title [default: Audit of the organisation or folder]
    #[arg(long, value_name = "TEXT", help_heading = "Front page")]
    pub(crate) title: Option<String>,
    /// Set the client
    #[arg(long, value_name = "TEXT", help_heading = "Front page")]
    pub(crate) client: Option<String>,
    /// Set the period of the audit
    #[arg(long, value_name = "TEXT", help_heading = "Front page")]
    pub(crate) period: Option<String>,
    /// Set the scope
    #[arg(long, value_name = "TEXT", help_heading = "Front page")]
    pub(crate) scope: Option<String>,
    /// Set the classification, such as confidential
    #[arg(long, value_name = "TEXT", help_heading = "Front page")]
    pub(crate) classification: Option<String>,
    /// Set the author
    #[arg(long, value_name = "TEXT", help_heading = "Front page")]
    pub(crate) author: Option<String>,
    /// Set the version of the document
    #[arg(long, value_name = "TEXT", help_heading = "Front page")]
    pub(crate) document_version: Option<String>,
}

impl From<Front> for ReportEntry {
    fn from(front: Front) -> Self {
        let Front { title, client, period, scope, classification, author, document_version: version } = front;
        Self { title, client, period, scope, classification, author, version }
    }
}

#[derive(Debug, Args)]
pub(crate) struct Questions {
    /// Folders and files with exports
    #[arg(help_heading = "What to read", required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) selection: Selection,
    /// Output format
    #[arg(long, help_heading = "Output", value_enum, default_value_t = ListFormat::Markdown)]
    pub(crate) format: ListFormat,
    #[command(flatten)]
    pub(crate) judging: Judging,
}

/// Forms of a list to send.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum ListFormat {
    /// Markdown for mail, tickets and wikis
    Markdown,
    /// CSV for spreadsheets
    Csv,
}

/// Forms of a report.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum ReportFormat {
    /// One self-contained HTML page
    Html,
    /// Markdown for tickets and wikis
    Markdown,
    /// CSV with one row for each finding
    Csv,
    /// SARIF 2.1.0
    Sarif,
    /// One JSON object, as `trevlin audit` prints it
    Json,
    /// OSCAL assessment results
    Oscal,
    /// Statement of applicability: one CSV row for each control
    Applicability,
}

#[derive(Debug, Args)]
pub(crate) struct Accept {
    /// Fingerprint of the finding, at least its first eight characters
    #[arg(help_heading = "What to read", value_name = "FINGERPRINT")]
    pub(crate) fingerprint: String,
    /// Folder of the estate, for its trevlin.toml
    #[arg(help_heading = "What to read", value_name = "PATH", default_value = ".")]
    pub(crate) path: PathBuf,
    /// Set the owner of the risk
    #[arg(long, help_heading = "Acceptance", value_name = "NAME")]
    pub(crate) owner: String,
    /// Set the reason
    #[arg(long, help_heading = "Acceptance", value_name = "TEXT")]
    pub(crate) reason: String,
    /// Set the last valid day, such as 2027-03-31
    #[arg(long, help_heading = "Acceptance", value_name = "DATE", value_parser = date)]
    pub(crate) until: Date,
    /// Set the reference date [default: today]
    #[arg(long, help_heading = "Acceptance", value_name = "DATE", value_parser = date, env = "TREVLIN_AS_OF", hide_env_values = true)]
    pub(crate) as_of: Option<Date>,
}

#[derive(Debug, Args)]
pub(crate) struct Baseline {
    /// Folders and files with exports [default: none, which shows the default baseline]
    #[arg(help_heading = "What to read", value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Use a ready-made baseline: default, strict or legacy-site
    #[arg(long, help_heading = "Selection", value_name = "NAME")]
    pub(crate) base: Option<String>,
    /// Output format
    #[arg(long, help_heading = "Output", value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
}

#[derive(Debug, Args)]
pub(crate) struct Compare {
    /// Previous state: a folder, or a result of `trevlin audit --format json`
    #[arg(help_heading = "What to read", value_name = "OLD")]
    pub(crate) old: PathBuf,
    /// Current state: a folder, or a saved result
    #[arg(help_heading = "What to read", value_name = "NEW")]
    pub(crate) new: PathBuf,
    #[command(flatten)]
    pub(crate) judging: Judging,
    /// Compare the controls of a catalogue (repeatable) [default: those of the scope, or iso-27002-2022]
    #[arg(long, help_heading = "Selection", value_name = "NAME", value_delimiter = ',')]
    pub(crate) controls: Vec<String>,
    /// Output format
    #[arg(long, help_heading = "Output", value_enum, default_value_t = CompareFormat::Text)]
    pub(crate) format: CompareFormat,
    /// Show every line
    #[arg(long, help_heading = "Output")]
    pub(crate) all: bool,
    /// Exit with status 1 for changes for the worse at or above this severity
    #[arg(long, help_heading = "Output", value_name = "SEVERITY", value_parser = super::severity, default_value = "info")]
    pub(crate) fail_on: Severity,
}

/// Forms of a comparison.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum CompareFormat {
    /// Plain text
    Text,
    /// One JSON object
    Json,
    /// Markdown for tickets and wikis
    Markdown,
}

#[derive(Debug, Args)]
pub(crate) struct Scrub {
    /// Folders and files to copy
    #[arg(help_heading = "What to read", required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Set the folder for the copy
    #[arg(long, help_heading = "Output", value_name = "DIR")]
    pub(crate) into: PathBuf,
    /// Replace addresses; network sizes and neighbours are preserved
    #[arg(long, help_heading = "Selection")]
    pub(crate) addresses: bool,
    /// Replace names of the organisation, devices and users
    #[arg(long, help_heading = "Selection")]
    pub(crate) names: bool,
    /// Keep the replacement table in this file and reuse it; keep it confidential
    #[arg(long, help_heading = "Output", value_name = "FILE")]
    pub(crate) key: Option<PathBuf>,
    /// Copy files of unsupported formats too, with apparent secrets replaced
    #[arg(long, help_heading = "Selection")]
    pub(crate) with_unread: bool,
    /// Write into an existing folder
    #[arg(long, help_heading = "Output")]
    pub(crate) force: bool,
}

#[derive(Debug, Args)]
pub(crate) struct Survey {
    /// Folders and files with exports
    #[arg(help_heading = "What to read", required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Create trevlin.toml in the folder, if there is none
    #[arg(long, help_heading = "Output")]
    pub(crate) write: bool,
    /// Create manifest.sha256 in the folder, if there is none: checksums of the exports as received
    #[arg(long, help_heading = "Output")]
    pub(crate) checksums: bool,
    /// Output format
    #[arg(long, help_heading = "Output", value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
}

/// Arguments of `trevlin coverage`.
#[derive(Debug, Args)]
pub(crate) struct Coverage {
    /// Folders and files with exports
    #[arg(help_heading = "What to read", required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Show the controls of a catalogue, by name or TOML file (repeatable)
    #[arg(long, help_heading = "Selection", value_name = "NAME", value_delimiter = ',')]
    pub(crate) controls: Vec<String>,
    /// Select a device (repeatable)
    #[arg(long, help_heading = "Selection", value_name = "NAME", value_delimiter = ',')]
    pub(crate) device: Vec<String>,
    /// Show the line or default that proves each pass
    #[arg(long, help_heading = "Output")]
    pub(crate) passes: bool,
    /// Output format
    #[arg(long, help_heading = "Output", value_enum, default_value_t = CoverageFormat::Text)]
    pub(crate) format: CoverageFormat,
    #[command(flatten)]
    pub(crate) judging: Judging,
}

/// Forms of the coverage.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum CoverageFormat {
    /// Plain text
    Text,
    /// One JSON object
    Json,
    /// CSV for spreadsheets; with --controls a statement of applicability
    Csv,
    /// Markdown for tickets and wikis
    Markdown,
}

/// Arguments of `trevlin collect`.
#[derive(Debug, Args)]
pub(crate) struct Collect {
    /// System of the machine
    #[arg(long = "for", help_heading = "Selection", value_enum, value_name = "SYSTEM")]
    pub(crate) system: CollectedSystem,
    /// Collect only accounts, network, packet filter and this role (repeatable)
    #[arg(long = "role", help_heading = "Selection", value_name = "ROLE", value_parser = role_names())]
    pub(crate) roles: Vec<String>,
    /// Include private keys; without it they are reduced to their first and last lines
    #[arg(long, help_heading = "Selection")]
    pub(crate) private_keys: bool,
}

/// Roles that a machine may have beside the base.
fn role_names() -> PossibleValuesParser {
    let values = trevlin_readers::collecting::roles().into_iter();
    let values = values.filter(|role| role.name != trevlin_readers::collecting::BASE);
    PossibleValuesParser::new(values.map(|role| PossibleValue::new(kept(&role.name)).help(kept(&role.title))))
}

/// Systems that there is a script for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum CollectedSystem {
    /// Debian, Ubuntu and relatives
    Debian,
    /// Fedora, Red Hat and relatives
    Redhat,
    #[value(help = "OpenWrt")]
    Openwrt,
    /// FreeBSD and relatives
    Bsd,
}
