//! Arguments of the commands for what has no open export: sheets and phrasebooks.

use clap::{Args, Subcommand, ValueEnum};
use std::path::PathBuf;
use trevlin_model::DeviceKind;

#[derive(Debug, Subcommand)]
pub(crate) enum Phrasebook {
    /// Print a phrasebook template for exports of one shape
    #[command(after_long_help = "Example:
  trevlin phrasebook new --shape indented > phrasebooks/gate.toml")]
    New(PhrasebookNew),
    /// Check a phrasebook, and report errors by line
    #[command(after_long_help = "Example:
  trevlin phrasebook check phrasebooks/gate.toml

Exit status: 0 no error, 1 at least one.")]
    Check(PhrasebookCheck),
    /// Read an export with a phrasebook, and show matches, unmatched lines and the sheet
    #[command(after_long_help = "Examples:
  trevlin phrasebook try gate.toml exports/gate/config.txt
  trevlin phrasebook try gate.toml exports/gate/config.txt --show untaken     unmatched lines

Exit status: 0 every line matched, 1 some did not.")]
    Try(PhrasebookTry),
    /// Show by topic of the review what a phrasebook reads, and what an audit will request
    #[command(after_long_help = "Example:
  trevlin phrasebook coverage gate.toml exports/gate/config.txt")]
    Coverage(PhrasebookCoverage),
}

#[derive(Debug, Args)]
pub(crate) struct PhrasebookNew {
    /// Set the shape of statements in the export
    #[arg(long, help_heading = "Selection", value_name = "SHAPE", value_parser = ["lines", "indented", "braces", "sections", "csv", "json", "xml"], default_value = "lines")]
    pub(crate) shape: String,
    /// Propose a skeleton for an export: its shape, how it is recognised, and its commonest statements
    #[arg(long, help_heading = "Selection", value_name = "EXPORT", conflicts_with = "shape")]
    pub(crate) from: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct PhrasebookCheck {
    /// Phrasebook
    #[arg(help_heading = "What to read", value_name = "BOOK")]
    pub(crate) book: PathBuf,
}

#[derive(Debug, Args)]
pub(crate) struct PhrasebookTry {
    /// Phrasebook
    #[arg(help_heading = "What to read", value_name = "BOOK")]
    pub(crate) book: PathBuf,
    /// Export; several of one device are read together
    #[arg(help_heading = "What to read", value_name = "EXPORT", required = true)]
    pub(crate) exports: Vec<PathBuf>,
    /// Select the part to show
    #[arg(long, help_heading = "Output", value_enum, default_value_t = Shown::All)]
    pub(crate) show: Shown,
}

#[derive(Debug, Args)]
pub(crate) struct PhrasebookCoverage {
    /// Phrasebook
    #[arg(help_heading = "What to read", value_name = "BOOK")]
    pub(crate) book: PathBuf,
    /// Export; several of one device are read together
    #[arg(help_heading = "What to read", value_name = "EXPORT", required = true)]
    pub(crate) exports: Vec<PathBuf>,
}

/// Parts of what trying a phrasebook shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Shown {
    /// Lines, then the sheet
    All,
    /// Lines that no phrase matches
    Untaken,
    /// The resulting sheet
    Sheet,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Sheet {
    /// Print an empty sheet with the questions, in the order of the review
    #[command(after_long_help = "Examples:
  trevlin sheet new --kind firewall > gate.toml            then fill in gate.toml, and `trevlin sheet check gate.toml`
  trevlin sheet new --kind firewall --interactive gate.toml   on the terminal; continues where it was stopped")]
    New(SheetNew),
    /// Check a sheet for errors, contradictions and missing answers
    #[command(after_long_help = "Example:
  trevlin sheet check exports/gate/sheet.toml

Exit status: 0 no error, 1 at least one error or contradiction.")]
    Check(SheetCheck),
    /// Print a device as a sheet, without secrets
    #[command(after_long_help = "Examples:
  trevlin sheet show exports/ --device edge               all facts about one device
  trevlin sheet show exports/ --device edge > edge.toml   to complete by hand, and to audit in its place")]
    Show(SheetShow),
}

#[derive(Debug, Args)]
pub(crate) struct SheetNew {
    /// Set the kind of device
    #[arg(long, help_heading = "Selection", value_enum)]
    pub(crate) kind: Kind,
    /// Go through the topics on the terminal and save the answers in this file; an existing sheet is continued
    #[arg(long, help_heading = "Selection", value_name = "FILE")]
    pub(crate) interactive: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct SheetCheck {
    /// Sheet
    #[arg(help_heading = "What to read", value_name = "FILE")]
    pub(crate) file: PathBuf,
}

/// Sorts of devices.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Kind {
    /// Firewall
    Firewall,
    /// Router
    Router,
    /// Server
    Server,
    /// Storage appliance
    Storage,
}

impl std::convert::From<Kind> for DeviceKind {
    fn from(kind: Kind) -> Self {
        match kind {
            Kind::Firewall => Self::Firewall,
            Kind::Router => Self::Router,
            Kind::Server => Self::Server,
            Kind::Storage => Self::Storage,
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct SheetShow {
    /// Folders and files with exports
    #[arg(help_heading = "What to read", required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Select the device [default: the only one]
    #[arg(long, help_heading = "Selection", value_name = "NAME")]
    pub(crate) device: Option<String>,
}
