//! Arguments of the commands for what has no open export: sheets and phrasebooks.

use clap::{Args, Subcommand, ValueEnum};
use std::path::PathBuf;
use trevlin_model::DeviceKind;

#[derive(Debug, Subcommand)]
pub(crate) enum Phrasebook {
    /// Write a phrasebook to begin with, for exports of one shape
    #[command(after_help = "Example:
  trevlin phrasebook new --shape indented > phrasebooks/gate.toml")]
    New(PhrasebookNew),
    /// Say what is wrong with a phrasebook, by line
    #[command(after_help = "Example:
  trevlin phrasebook check phrasebooks/gate.toml

Exit status: 0 nothing is wrong, 1 something is.")]
    Check(PhrasebookCheck),
    /// Read an export with a phrasebook: what took each line, what nobody took, and the sheet that comes out
    #[command(after_help = "Examples:
  trevlin phrasebook try gate.toml exports/gate/config.txt
  trevlin phrasebook try gate.toml exports/gate/config.txt --show untaken     what is left to do

Exit status: 0 every line was taken, 1 some were not.")]
    Try(PhrasebookTry),
}

#[derive(Debug, Args)]
pub(crate) struct PhrasebookNew {
    /// How statements stand in the export
    #[arg(long, value_name = "SHAPE", value_parser = ["lines", "indented", "braces", "sections", "csv", "json", "xml"], default_value = "lines")]
    pub(crate) shape: String,
}

#[derive(Debug, Args)]
pub(crate) struct PhrasebookCheck {
    /// The phrasebook
    #[arg(value_name = "BOOK")]
    pub(crate) book: PathBuf,
}

#[derive(Debug, Args)]
pub(crate) struct PhrasebookTry {
    /// The phrasebook
    #[arg(value_name = "BOOK")]
    pub(crate) book: PathBuf,
    /// The export
    #[arg(value_name = "EXPORT")]
    pub(crate) export: PathBuf,
    /// What to show
    #[arg(long, value_enum, default_value_t = Shown::All)]
    pub(crate) show: Shown,
}

/// Parts of what trying a phrasebook shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Shown {
    /// Lines, then the sheet
    All,
    /// Lines that no phrase took
    Untaken,
    /// The sheet that comes out
    Sheet,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Sheet {
    /// Write an empty sheet with the questions to ask, in the order of the work
    #[command(after_help = "Example:
  trevlin sheet new --kind firewall > gate.toml     then fill in gate.toml, and `trevlin sheet check gate.toml`")]
    New(SheetNew),
    /// Say what of a sheet cannot be read, contradicts itself or is not answered yet
    #[command(after_help = "Example:
  trevlin sheet check exports/gate/sheet.toml

Exit status: 0 everything could be read, 1 something could not be, or contradicts itself.")]
    Check(SheetCheck),
    /// Print an audited device as a sheet, secrets left out
    #[command(after_help = "Examples:
  trevlin sheet show exports/ --device edge               everything known about one device
  trevlin sheet show exports/ --device edge > edge.toml   to keep, to complete by hand, and to audit in its place")]
    Show(SheetShow),
}

#[derive(Debug, Args)]
pub(crate) struct SheetNew {
    /// What sort of device it is
    #[arg(long, value_enum)]
    pub(crate) kind: Kind,
}

#[derive(Debug, Args)]
pub(crate) struct SheetCheck {
    /// The sheet
    #[arg(value_name = "FILE")]
    pub(crate) file: PathBuf,
}

/// Sorts of devices.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Kind {
    /// Filters between networks
    Firewall,
    /// Joins networks
    Router,
    /// Serves
    Server,
    /// Keeps files
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
    /// Folders and files to read
    #[arg(required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Which device [default: the only one]
    #[arg(long, value_name = "NAME")]
    pub(crate) device: Option<String>,
}
