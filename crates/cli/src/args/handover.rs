//! Arguments of the commands that hand over: reports, lists to send, accepted findings, the baseline.

use super::{Format, Judging, Selection, date};
use clap::{Args, ValueEnum};
use jiff::civil::Date;
use std::path::PathBuf;
use trevlin_audit::Severity;

#[derive(Debug, Args)]
pub(crate) struct Report {
    /// Folders and files to read
    #[arg(required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// File or folder to write, or - for standard output
    #[arg(long, value_name = "DIR_OR_FILE")]
    pub(crate) to: PathBuf,
    /// Form of the report (several, with commas, into a folder)
    #[arg(long, value_enum, value_delimiter = ',')]
    pub(crate) format: Vec<ReportFormat>,
    /// Overwrite what is there, and write among the exports if told to
    #[arg(long)]
    pub(crate) force: bool,
    #[command(flatten)]
    pub(crate) judging: Judging,
}

#[derive(Debug, Args)]
pub(crate) struct Questions {
    /// Folders and files to read
    #[arg(required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) selection: Selection,
    /// Form of the list
    #[arg(long, value_enum, default_value_t = ListFormat::Markdown)]
    pub(crate) format: ListFormat,
    #[command(flatten)]
    pub(crate) judging: Judging,
}

/// Forms of a list to send.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum ListFormat {
    /// Text for mails, tickets and wikis
    Markdown,
    /// Lines for a spreadsheet
    Csv,
}

/// Forms of a report.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum ReportFormat {
    /// One page for people, that needs nothing beside it
    Html,
    /// Text for tickets and wikis
    Markdown,
    /// One row a finding, for a spreadsheet
    Csv,
    /// SARIF 2.1.0, for trackers of code
    Sarif,
    /// One JSON object, as `trevlin audit` prints it
    Json,
    /// OSCAL assessment results, for tools of compliance
    Oscal,
}

#[derive(Debug, Args)]
pub(crate) struct Accept {
    /// Fingerprint of the finding, or its first eight characters or more
    #[arg(value_name = "FINGERPRINT")]
    pub(crate) fingerprint: String,
    /// The folder of the estate, which holds trevlin.toml or will
    #[arg(value_name = "PATH", default_value = ".")]
    pub(crate) path: PathBuf,
    /// Who answers for it
    #[arg(long, value_name = "NAME")]
    pub(crate) owner: String,
    /// Why it may stay
    #[arg(long, value_name = "TEXT")]
    pub(crate) reason: String,
    /// The last day on which that holds, as 2027-03-31
    #[arg(long, value_name = "DATE", value_parser = date)]
    pub(crate) until: Date,
    /// Take this day for today
    #[arg(long, value_name = "DATE", value_parser = date, env = "TREVLIN_AS_OF", hide_env_values = true)]
    pub(crate) as_of: Option<Date>,
}

#[derive(Debug, Args)]
pub(crate) struct Baseline {
    /// Folders and files to read [default: none, which shows what holds without an estate file]
    #[arg(value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Begin with this ready-made baseline: default, strict or legacy-site
    #[arg(long, value_name = "NAME")]
    pub(crate) base: Option<String>,
    /// Form of the output
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
}

#[derive(Debug, Args)]
pub(crate) struct Compare {
    /// The estate as it was: a folder, or a result saved with `trevlin audit --format json`
    #[arg(value_name = "OLD")]
    pub(crate) old: PathBuf,
    /// The estate as it is: a folder, or a saved result
    #[arg(value_name = "NEW")]
    pub(crate) new: PathBuf,
    #[command(flatten)]
    pub(crate) judging: Judging,
    /// Form of the output
    #[arg(long, value_enum, default_value_t = CompareFormat::Text)]
    pub(crate) format: CompareFormat,
    /// Show every line
    #[arg(long)]
    pub(crate) all: bool,
    /// Count only what is at or above this severity as worse
    #[arg(long, value_name = "SEVERITY", value_parser = super::severity, default_value = "info")]
    pub(crate) fail_on: Severity,
}

/// Forms of a comparison.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum CompareFormat {
    /// Text for people
    Text,
    /// One JSON object
    Json,
    /// Text for tickets and wikis
    Markdown,
}

#[derive(Debug, Args)]
pub(crate) struct Scrub {
    /// Folders and files to copy
    #[arg(required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// The folder for the copy, which is not there yet
    #[arg(long, value_name = "DIR")]
    pub(crate) into: PathBuf,
    /// Put other addresses in their place; networks keep their sizes and neighbours
    #[arg(long)]
    pub(crate) addresses: bool,
    /// Put other names in the place of those of the organisation, its devices and people
    #[arg(long)]
    pub(crate) names: bool,
    /// Keep here what stands for what, and use it again where it is there. Never hand it on
    #[arg(long, value_name = "FILE")]
    pub(crate) key: Option<PathBuf>,
    /// Copy files of formats that are not read here too, with all that looks like a secret replaced
    #[arg(long)]
    pub(crate) with_unread: bool,
    /// Write into a folder that is there
    #[arg(long)]
    pub(crate) force: bool,
}

#[derive(Debug, Args)]
pub(crate) struct Survey {
    /// Folders and files to read
    #[arg(required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Write a first trevlin.toml into the folder, where there is none
    #[arg(long)]
    pub(crate) write: bool,
    /// Form of the output
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
}
