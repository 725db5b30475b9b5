//! Arguments as given, before anything is looked up.
//!
//! Long because every argument of every command, which help and completion are made from.

mod appliances;
mod handover;
#[cfg(test)]
mod manual;

pub(crate) use appliances::{Phrasebook, PhrasebookTry, Sheet, SheetShow, Shown};
pub(crate) use handover::{
    Accept, Baseline, Compare, CompareFormat, ListFormat, Questions, Report, ReportFormat, Scrub, Survey,
};

use clap::{Args, Parser, Subcommand, ValueEnum};
use jiff::civil::Date;
use std::net::IpAddr;
use std::path::PathBuf;
use trevlin_audit::reachability::{From, Transport};
use trevlin_audit::{Area, Check, Severity, checks};

/// Reads exported configurations of network devices and says what is weak, exposed, overlapping or too broad.
#[derive(Debug, Parser)]
#[command(
    name = "trevlin",
    version = env!("TREVLIN_VERSION"),
    max_term_width = 100,
    after_help = "Begin with `trevlin demo`, then `trevlin survey exports/` and `trevlin audit exports/` on your own. Everything works offline, on files; no device is ever connected to. Each command has examples: `trevlin audit --help`."
)]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub(crate) common: Common,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// Arguments that every command takes.
#[derive(Debug, Args)]
pub(crate) struct Common {
    /// When to colour output. NO_COLOR is respected
    #[arg(long, value_enum, default_value_t = Color::Auto, global = true, value_name = "WHEN")]
    pub(crate) color: Color,
    /// Say less: one line a finding, and no warnings
    #[arg(short, long, global = true, conflicts_with = "verbose")]
    pub(crate) quiet: bool,
    /// Say more: what each file was taken for, and every note; given twice, also how long each part took
    #[arg(short, long, global = true, action = clap::ArgAction::Count)]
    pub(crate) verbose: u8,
    /// Read more or less than by default, as NAME=VALUE (can be repeated); docs/limits.md lists them
    #[arg(long, global = true, value_name = "NAME=VALUE", value_delimiter = ',')]
    pub(crate) limit: Vec<String>,
    /// Work on so many files and devices at a time; by default on one for each core
    #[arg(short, long, global = true, value_name = "N")]
    pub(crate) jobs: Option<std::num::NonZeroUsize>,
}

impl Common {
    /// Whether to say more.
    pub(crate) fn is_verbose(&self) -> bool {
        self.verbose > 0
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Say what was handed over: devices, formats, how much was understood, what is missing, where the outside seems to be
    #[command(after_help = "Examples:
  trevlin survey exports/                    the first look
  trevlin survey exports/ --write            and a first exports/trevlin.toml to fill in
  trevlin survey exports/ --format json      for other programs, schema trevlin-survey/1")]
    Survey(Survey),
    /// Audit exported configurations: a folder of devices, one device's folder, or single files
    #[command(after_help = "Examples:
  trevlin audit exports/                        every device in the folder
  trevlin audit exports/ --full                 every finding with its lines, why it matters, and how to mend it
  trevlin audit exports/edge --area exposure    one device, one area
  trevlin audit exports/ --format json          for other programs
  trevlin audit exports/ --fail-on high         exit status 1 on a high or critical finding

Exit status: 0 no finding at or above --fail-on, 1 there is one, 2 the audit could not be done.
A file that cannot be read is named on standard error; the rest is audited.")]
    Audit(Audit),
    /// Show every way to log in: to what, who, from which list, with which factors
    #[command(after_help = "Examples:
  trevlin logins exports/                     the table, by device
  trevlin logins exports/ --format json       for other programs, schema trevlin-logins/1")]
    Logins(Logins),
    /// Show every tunnel: its protocol, who comes in, the weakest algorithm it may use, what goes through it
    #[command(after_help = "Examples:
  trevlin tunnels exports/                         the table, by device
  trevlin tunnels exports/ --detail desks.conf     everything of one tunnel, with its lines
  trevlin tunnels exports/ --format json           for other programs, schema trevlin-tunnels/1")]
    Tunnels(Tunnels),
    /// Show the address plan: everything that lays claim to addresses, and where claims meet
    #[command(after_help = "Examples:
  trevlin addresses exports/                          the space as a tree, then every overlap
  trevlin addresses exports/ --around 10.4.0.9        what lies near one address
  trevlin addresses exports/ --free 200               private networks that collide with nothing
  trevlin addresses exports/ --picture plan.svg       a picture of it (or plan.png)
  trevlin addresses exports/ --format csv             for a spreadsheet; json has the schema trevlin-addresses/1")]
    Addresses(Addresses),
    /// Review every packet filter, rule by rule: what each lets through, what is left of it, what is wrong with it
    #[command(after_help = "Examples:
  trevlin rules exports/                     every filter
  trevlin rules exports/ --device edge       those of one device
  trevlin rules exports/ --format csv        for a spreadsheet; json has the schema trevlin-rules/1")]
    Rules(Rules),
    /// Follow connections through the devices: whether they come through, where to, and every line that decides
    #[command(after_help = "Examples:
  trevlin reach exports/ --from outside --to 192.0.2.18 --proto tcp --port 443
  trevlin reach exports/ --from \"WireGuard wg0\" --to files --proto tcp --port 445
  trevlin reach exports/ --from \"WireGuard wg0\"      everything that its callers reach, and how wide that is
  trevlin reach exports/ --intents                    what is meant, and what is missing or too much
  trevlin reach exports/ --from 10.20.4.9 --to 10.20.6.20 --proto tcp --port 80 --entering edge:eth1
  trevlin reach exports/ --flows flows.csv --format json

A file of flows has the columns from,entering,to,proto,port and may have expect (allowed, blocked or depends) and sport.

Exit status: 0 answered, 1 an expectation of the file or an intent does not hold, 2 it could not be answered.")]
    Reach(Reach),
    /// Show what can be reached from outside, or from anywhere: each service, step by step, and how it is protected
    #[command(after_help = "Examples:
  trevlin exposure exports/                          what the outside reaches
  trevlin exposure exports/ --from 10.20.4.0/24      what hosts of a network reach
  trevlin exposure exports/ --from \"WireGuard wg0\"  what the callers of a tunnel reach
  trevlin exposure exports/ --from booking           what a device reaches
  trevlin exposure exports/ --picture paths.svg      a picture of it (or paths.png)
  trevlin exposure exports/ --format csv             for a spreadsheet; json has the schema trevlin-exposure/1")]
    Exposure(Exposure),
    /// Show what each device serves: where it listens, how it is protected, who may, and who reaches it
    #[command(after_help = "\
Examples:
  trevlin services exports/                          every device
  trevlin services exports/ --device quay-storage    one device
  trevlin services exports/ --format json            schema trevlin-services/1

Signs: ! everybody outside reaches it, o some outside do, c callers of a tunnel do, i the inside, . the device alone, x switched off")]
    Services(Services),
    /// Write a report: a page for people, a list for engineers, a file for trackers
    #[command(after_help = "Examples:
  trevlin report exports/ --to report.html                      one page that needs nothing beside it
  trevlin report exports/ --to handover/ --format html,csv,sarif  several forms, in a folder
  trevlin report exports/ --to - --format markdown              to standard output

Without --format the file's ending decides: .html, .md, .csv, .sarif, .json. In a folder the files are report.html, report.md,
findings.csv, findings.sarif, audit.json (as `trevlin audit` prints it) and assessment-results.json (OSCAL).")]
    Report(Report),
    /// List what the exports cannot tell, to send to those who can
    #[command(after_help = "Examples:
  trevlin questions exports/                      Markdown, by whom to ask and by device
  trevlin questions exports/ --format csv         for a spreadsheet, with room for answers

Whom to ask about a device stands in trevlin.toml: [device.\"NAME\"] contact = \"Oda Lind\".")]
    Questions(Questions),
    /// Take responsibility for a finding: who answers for it, why, and until when
    #[command(after_help = "Example:
  trevlin accept 3089540224f1 exports/ --owner \"Astrid Holm\" --reason \"replaced in spring\" --until 2027-03-31

The entry goes into trevlin.toml of the folder. `trevlin audit` shows the finding as accepted and counts it apart; once the day
has passed it is open again.")]
    Accept(Accept),
    /// Hold two audits against each other: what was fixed, what is new, what the outside reaches now
    #[command(after_help = "Examples:
  trevlin compare exports-may/ exports-august/            two estates
  trevlin compare may.json exports-august/                a result saved with `trevlin audit --format json`
  trevlin compare may.json august.json --format markdown  for a ticket
  trevlin compare last.json exports/ --fail-on high       in a pipeline

Exit status: 0 nothing is worse, 1 something is (new, graver or open again at or above --fail-on, or newly reached from
outside), 2 they could not be compared.")]
    Compare(Compare),
    /// Make a copy of exports to hand on: every secret replaced by a stand-in, and on request addresses and names too
    #[command(after_help = "Examples:
  trevlin scrub exports/ --into copy/                                     secrets alone
  trevlin scrub exports/ --into copy/ --addresses --names --key key.json  and other addresses and names
  trevlin compare exports/ copy/                                          what the copy no longer shows

Equal secrets have equal stand-ins, so that reuse stays visible. What was not understood is listed: look at those lines before
the copy leaves the house. Whoever has the key file can undo names and addresses and try guesses at secrets.")]
    Scrub(Scrub),
    /// Show the thresholds that findings are judged by, and where each comes from
    #[command(after_help = "Examples:
  trevlin baseline                       what holds where nothing is said, and the ready-made baselines
  trevlin baseline --base strict         one of those
  trevlin baseline exports/              the one in force, with what differs for places and devices

A baseline is stated in trevlin.toml: [baseline], [baseline.site.NAME], [baseline.device.NAME].")]
    Baseline(Baseline),
    /// Device sheets: for what an appliance shows only on screen, and for everything known about a device in one form
    #[command(subcommand)]
    Sheet(Sheet),
    /// Phrasebooks: teach an appliance's export without programming
    #[command(subcommand)]
    Phrasebook(Phrasebook),
    /// List the checks, or explain one
    #[command(after_help = "Examples:
  trevlin checks                         every check, by area
  trevlin checks tunnels/pptp    why it matters, how it is judged, how to mend it

The same stands in docs/checks.")]
    Checks {
        /// A check, such as tunnels/pptp
        id: Option<String>,
    },
    /// Write the demo estate and audit it
    #[command(after_help = "Examples:
  trevlin demo                  audit a made-up estate
  trevlin demo --into tour/     write it, with its corrected twin, to try every command on")]
    Demo(Demo),
    /// Print what a shell needs to complete commands and options
    #[command(after_help = "Examples:
  trevlin completions bash > ~/.local/share/bash-completion/completions/trevlin
  trevlin completions zsh > \"${fpath[1]}/_trevlin\"
  trevlin completions fish > ~/.config/fish/completions/trevlin.fish")]
    Completions {
        /// Which shell
        #[arg(value_enum)]
        shell: Shell,
    },
}

/// Shells that can complete.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Shell {
    /// bash, with its package for completions
    Bash,
    /// zsh
    Zsh,
    /// fish
    Fish,
}

#[derive(Debug, Args)]
pub(crate) struct Audit {
    /// Folders and files to read
    #[arg(required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) selection: Selection,
    /// Form of the output
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
    #[command(flatten)]
    pub(crate) judging: Judging,
    /// Everything of each finding, not only what to do first; so it is anyway for a part of the estate, and where little is found
    #[arg(long, conflicts_with = "quiet")]
    pub(crate) full: bool,
    /// Exit with status 1 if a finding is at or above this severity
    #[arg(long, value_name = "SEVERITY", value_parser = severity)]
    pub(crate) fail_on: Option<Severity>,
}

#[derive(Debug, Args)]
pub(crate) struct Services {
    /// Folders and files to read
    #[arg(required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Only this device (can be repeated)
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) device: Vec<String>,
    /// Form of the output
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
}

#[derive(Debug, Args)]
pub(crate) struct Logins {
    /// Folders and files to read
    #[arg(required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Only this device (can be repeated)
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) device: Vec<String>,
    /// Form of the output
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
}

#[derive(Debug, Args)]
pub(crate) struct Tunnels {
    /// Folders and files to read
    #[arg(required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Only this device (can be repeated)
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) device: Vec<String>,
    /// Everything of the tunnels whose name holds this
    #[arg(long, value_name = "NAME")]
    pub(crate) detail: Option<String>,
    /// Form of the output
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
    #[command(flatten)]
    pub(crate) judging: Judging,
}

#[derive(Debug, Args)]
pub(crate) struct Addresses {
    /// Folders and files to read
    #[arg(required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Only what lies near this address
    #[arg(long, value_name = "ADDR")]
    pub(crate) around: Option<IpAddr>,
    /// Propose private networks with room for so many callers that collide with nothing in the estate
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..), conflicts_with_all = ["around", "picture"])]
    pub(crate) free: Option<u32>,
    /// Draw the plan into this file, by its ending an SVG or a PNG
    #[arg(long, value_name = "FILE")]
    pub(crate) picture: Option<PathBuf>,
    /// Overwrite the picture where it is there, and write it among the exports if told to
    #[arg(long, requires = "picture")]
    pub(crate) force: bool,
    /// Form of the output
    #[arg(long, value_enum, default_value_t = TableFormat::Text)]
    pub(crate) format: TableFormat,
}

#[derive(Debug, Args)]
pub(crate) struct Rules {
    /// Folders and files to read
    #[arg(required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Only this device (can be repeated)
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) device: Vec<String>,
    /// Form of the output
    #[arg(long, value_enum, default_value_t = TableFormat::Text)]
    pub(crate) format: TableFormat,
    /// Judge dates in comments as of this date, as 2026-11-25 [default: today]
    #[arg(long, value_name = "DATE", value_parser = date, env = "TREVLIN_AS_OF", hide_env_values = true)]
    pub(crate) as_of: Option<Date>,
}

#[derive(Debug, Args)]
pub(crate) struct Exposure {
    /// Folders and files to read
    #[arg(required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// From where: `outside`, an address, a network, a device, or a tunnel (its callers)
    #[arg(long, value_name = "WHERE", value_parser = source, default_value = "outside")]
    pub(crate) from: From,
    /// Only services of this device (can be repeated)
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) device: Vec<String>,
    /// Draw the paths into this file, by its ending an SVG or a PNG
    #[arg(long, value_name = "FILE")]
    pub(crate) picture: Option<PathBuf>,
    /// Overwrite the picture where it is there, and write it among the exports if told to
    #[arg(long, requires = "picture")]
    pub(crate) force: bool,
    /// Form of the output
    #[arg(long, value_enum, default_value_t = TableFormat::Text)]
    pub(crate) format: TableFormat,
}

#[derive(Debug, Args)]
pub(crate) struct Reach {
    /// Folders and files to read
    #[arg(required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// From where: an address, a network, a device, a tunnel (its callers), a group of users with fixed addresses, or `outside`
    /// for a host of the outside that no rule names
    #[arg(long, value_name = "WHERE", value_parser = source, required_unless_present_any = ["flows", "intents"])]
    pub(crate) from: Option<From>,
    /// Where to: an address, a network, a device, a tunnel (its callers) or `outside` [default: anywhere]
    #[arg(long, value_name = "WHERE")]
    pub(crate) to: Option<String>,
    /// Transport protocol, tcp or udp [default: every service is listed]
    #[arg(long, value_name = "PROTO", value_parser = transport, requires = "port")]
    pub(crate) proto: Option<Transport>,
    /// Destination port
    #[arg(long, value_name = "N", requires_all = ["proto", "to"])]
    pub(crate) port: Option<u16>,
    /// Source port [default: any that a host chooses by itself]
    #[arg(long, value_name = "N")]
    pub(crate) sport: Option<u16>,
    /// Device and interface by which it enters [default: where the source lies]
    #[arg(long, value_name = "DEVICE:INTERFACE", value_parser = entrance)]
    pub(crate) entering: Option<(String, String)>,
    /// Answer every row of this file
    #[arg(long, value_name = "FILE.csv", conflicts_with_all = ["from", "to", "proto", "port", "sport", "entering"])]
    pub(crate) flows: Option<PathBuf>,
    /// Hold every intent of trevlin.toml against what comes through
    #[arg(long, conflicts_with_all = ["flows", "from", "to", "proto", "port", "sport", "entering"])]
    pub(crate) intents: bool,
    /// Form of the output
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
}

/// From where somebody asks.
pub(crate) fn source(word: &str) -> Result<From, String> {
    From::parse(word).map_err(|wrong| wrong.to_string())
}

pub(crate) fn transport(word: &str) -> Result<Transport, String> {
    match word.to_ascii_lowercase().as_str() {
        "tcp" => Ok(Transport::Tcp),
        "udp" => Ok(Transport::Udp),
        _ => Err("expected tcp or udp".to_owned()),
    }
}

/// `DEVICE:INTERFACE`. A name of an interface may hold a colon itself, that of a device may not.
pub(crate) fn entrance(word: &str) -> Result<(String, String), String> {
    match word.split_once(':') {
        Some((device, interface)) if !device.is_empty() && !interface.is_empty() => {
            Ok((device.to_owned(), interface.to_owned()))
        }
        _ => Err("expected DEVICE:INTERFACE, such as harbour-edge:eth0".to_owned()),
    }
}

/// What findings are judged by.
#[derive(Debug, Args)]
pub(crate) struct Judging {
    /// Judge certificates and dates as of this day, as 2026-11-25 [default: today]
    #[arg(long, value_name = "DATE", value_parser = date, env = "TREVLIN_AS_OF", hide_env_values = true)]
    pub(crate) as_of: Option<Date>,
    /// Begin with this ready-made baseline: default, strict or legacy-site (`trevlin baseline` shows them)
    #[arg(long, value_name = "NAME")]
    pub(crate) baseline: Option<String>,
}

#[derive(Debug, Args, Default)]
pub(crate) struct Selection {
    /// Only findings and questions of this area (can be repeated): logins, secrets, addresses, tunnels, ciphers,
    /// exposure, rules, upkeep
    #[arg(long, value_name = "AREA", value_parser = area, value_delimiter = ',')]
    pub(crate) area: Vec<Area>,
    /// Only findings at or above this severity: critical, high, medium, low, info
    #[arg(long, value_name = "SEVERITY", value_parser = severity)]
    pub(crate) severity: Option<Severity>,
    /// Only this device (can be repeated)
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) device: Vec<String>,
    /// Only what this check says (can be repeated); `trevlin checks` lists them
    #[arg(long, value_name = "ID", value_parser = check, value_delimiter = ',')]
    pub(crate) check: Vec<&'static str>,
}

impl Selection {
    /// Whether anything is left out.
    pub(crate) fn is_partial(&self) -> bool {
        !(self.area.is_empty() && self.device.is_empty() && self.check.is_empty()) || self.severity.is_some()
    }
}

#[derive(Debug, Args)]
pub(crate) struct Demo {
    /// Everything of each finding, not only what to do first
    #[arg(long, conflicts_with_all = ["into", "quiet"])]
    pub(crate) full: bool,
    /// Write the demo estate into this folder (as DIR/before) and do not audit it
    #[arg(long, value_name = "DIR")]
    pub(crate) into: Option<PathBuf>,
    /// Judge certificates as of this date, as 2026-11-25 [default: today]
    #[arg(long, value_name = "DATE", value_parser = date, env = "TREVLIN_AS_OF", hide_env_values = true)]
    pub(crate) as_of: Option<Date>,
    /// Overwrite what is there
    #[arg(long, requires = "into")]
    pub(crate) force: bool,
}

/// Forms of output.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// Text for people
    Text,
    /// One JSON object
    Json,
}

/// Forms of a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum TableFormat {
    /// Text for people
    Text,
    /// One JSON object
    Json,
    /// Lines for a spreadsheet
    Csv,
}

/// When to colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    /// On a terminal
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

impl Color {
    /// Makes the choice known to everything that prints.
    pub(crate) fn write_global(self) {
        let choice = match self {
            Self::Auto => anstream::ColorChoice::Auto,
            Self::Always => anstream::ColorChoice::Always,
            Self::Never => anstream::ColorChoice::Never,
        };
        choice.write_global();
    }
}

pub(crate) fn severity(word: &str) -> Result<Severity, String> {
    Severity::from_word(word).ok_or_else(|| expected(word, Severity::ALL.map(Severity::word)))
}

fn area(word: &str) -> Result<Area, String> {
    Area::from_word(word).ok_or_else(|| expected(word, Area::ALL.map(Area::word)))
}

fn check(id: &str) -> Result<&'static str, String> {
    known_check(id).map(|check| check.id)
}

/// The check of an id.
///
/// # Errors
/// When there is none, with those that are called nearly so.
pub(crate) fn known_check(id: &str) -> Result<&'static Check, String> {
    checks::find(id).ok_or_else(|| {
        let near = checks::similar(id);
        let hint =
            if near.is_empty() { String::new() } else { format!(" Did you mean {}?", near.join(" or ")) };
        format!("there is no check {id}; `trevlin checks` lists them.{hint}")
    })
}

fn date(word: &str) -> Result<Date, String> {
    word.parse().map_err(|_| "expected a date as year-month-day, such as 2026-11-25".to_owned())
}

fn expected<const N: usize>(word: &str, words: [&str; N]) -> String {
    let near = words.iter().find(|one| strsim::jaro_winkler(one, word) > 0.8);
    let hint = near.map(|near| format!("; did you mean {near}?")).unwrap_or_default();
    format!("expected one of {}{hint}", words.join(", "))
}
