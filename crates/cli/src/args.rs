//! Arguments as given, before anything is looked up.
//!
//! Long because every argument of every command, which help and completion are made from.

mod appliances;
mod handover;
#[cfg(test)]
mod manual;

pub(crate) use appliances::{Phrasebook, PhrasebookCoverage, PhrasebookTry, Sheet, SheetShow, Shown};
pub(crate) use handover::{
    Accept, Baseline, Collect, CollectedSystem, Compare, CompareFormat, Coverage, CoverageFormat, ListFormat,
    Questions, Report, ReportFormat, Scrub, Survey,
};

use clap::{Args, Parser, Subcommand, ValueEnum};
use jiff::civil::Date;
use std::net::IpAddr;
use std::path::PathBuf;
use trevlin_audit::reachability::{From, Transport};
use trevlin_audit::{Area, Check, Severity, checks};

/// Audits exported configurations of firewalls, routers, servers and storage appliances, offline.
#[derive(Debug, Parser)]
#[command(
    name = "trevlin",
    version = env!("TREVLIN_VERSION"),
    max_term_width = 100,
    disable_help_flag = true,
    disable_version_flag = true,
    after_help = "Start with `trevlin demo`, then run `trevlin survey` and `trevlin audit` on a folder of exports. Trevlin reads files only and never connects to a device. `trevlin COMMAND --help` shows examples."
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
    /// Colour output; NO_COLOR is respected
    #[arg(long, help_heading = "General", value_enum, default_value_t = Color::Auto, global = true, value_name = "WHEN")]
    pub(crate) color: Color,
    /// Print one line for each finding, and no warnings
    #[arg(short, long, help_heading = "General", global = true, conflicts_with = "verbose")]
    pub(crate) quiet: bool,
    /// Print the format of each file and every note; -vv adds timings
    #[arg(short, long, help_heading = "General", global = true, action = clap::ArgAction::Count)]
    pub(crate) verbose: u8,
    /// Change a limit (repeatable); see docs/limits.md
    #[arg(long, help_heading = "General", global = true, value_name = "NAME=VALUE", value_delimiter = ',')]
    pub(crate) limit: Vec<String>,
    /// Set the number of parallel jobs [default: one for each core]
    #[arg(short, long, help_heading = "General", global = true, value_name = "N")]
    pub(crate) jobs: Option<std::num::NonZeroUsize>,
    /// Print help (`--help` adds details and examples)
    #[arg(short, long, help_heading = "General", global = true, action = clap::ArgAction::Help)]
    help: Option<bool>,
    /// Print the version
    #[arg(short = 'V', long, help_heading = "General", action = clap::ArgAction::Version)]
    version: Option<bool>,
}

impl Common {
    /// Whether verbose messages are requested.
    pub(crate) fn is_verbose(&self) -> bool {
        self.verbose > 0
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// List devices, formats, missing files and Internet interfaces of an export
    #[command(after_long_help = "Examples:
  trevlin survey exports/                    overview of the exports
  trevlin survey exports/ --write            create exports/trevlin.toml to complete
  trevlin survey exports/ --format json      for other programs, schema trevlin-survey/1")]
    Survey(Survey),
    /// Print a shell script that collects the exports of a machine
    #[command(after_long_help = "Examples:
  trevlin collect --for debian > collect.sh                   everything that is read
  trevlin collect --for redhat --role web --role data         web server and database only
  trevlin collect --for openwrt --private-keys                with private keys

Run on the machine, as root: sh collect.sh. The result is an archive with checksums that `trevlin survey` compares.
Nothing on the machine changes.")]
    Collect(Collect),
    /// Report findings: weak, exposed, overlapping or over-broad configuration
    #[command(after_long_help = "Examples:
  trevlin audit exports/                        every device in the folder
  trevlin audit exports/ --full                 every finding with lines, risk and remedy
  trevlin audit exports/edge --area exposure    one device, one area
  trevlin audit exports/ --format json          for other programs
  trevlin audit exports/ --fail-on high         exit status 1 on a high or critical finding

Exit status: 0 no finding at or above --fail-on, 1 at least one, 2 the audit failed.
Unreadable files are named on standard error; the others are audited.")]
    Audit(Audit),
    /// Show tested subjects, passes, and gaps, by check or control
    #[command(after_long_help = "Examples:
  trevlin coverage exports/                                   every check, and controls in numbers
  trevlin coverage exports/ --controls iso-27002-2022         the controls of a catalogue
  trevlin coverage exports/ --controls own.toml --passes      an own catalogue, with the line of each pass
  trevlin coverage exports/ --controls nist-csf-2.0 --format csv   a statement of applicability
  trevlin coverage exports/ --format json                     for other programs, schema trevlin-coverage/1

Catalogues: bsi-grundschutz-2023, cis-controls-v8, iec-62443-3-3, iso-27002-2022, nis2-2024-2690, nist-csf-2.0, nist-sp800-53-r5, pci-dss-4.0, and those in the estate folder (docs/coverage.md).
A control is met only where the estate file states the scope ([scope] in trevlin.toml), checksums list all exports of each system, and every export that its checks need is there.")]
    Coverage(Coverage),
    /// List login paths with users, identity source and factors
    #[command(after_long_help = "Examples:
  trevlin logins exports/                     the table, by device
  trevlin logins exports/ --format json       for other programs, schema trevlin-logins/1")]
    Logins(Logins),
    /// List tunnels with authentication, weakest algorithm and routes
    #[command(after_long_help = "Examples:
  trevlin tunnels exports/                         the table, by device
  trevlin tunnels exports/ --detail desks.conf     details of one tunnel, with its lines
  trevlin tunnels exports/ --format json           for other programs, schema trevlin-tunnels/1")]
    Tunnels(Tunnels),
    /// Show the address plan and its overlaps
    #[command(after_long_help = "Examples:
  trevlin addresses exports/                          the address plan, then every overlap
  trevlin addresses exports/ --around 10.4.0.9        allocations near one address
  trevlin addresses exports/ --free 200               free private networks for 200 clients
  trevlin addresses exports/ --picture plan.svg       draw the plan (or plan.png)
  trevlin addresses exports/ --format csv             for a spreadsheet; json has the schema trevlin-addresses/1")]
    Addresses(Addresses),
    /// Review every packet filter rule by rule
    #[command(after_long_help = "Examples:
  trevlin rules exports/                     every filter
  trevlin rules exports/ --device edge       filters of one device
  trevlin rules exports/ --format csv        for a spreadsheet; json has the schema trevlin-rules/1")]
    Rules(Rules),
    /// Trace connections through the devices, with every deciding line
    #[command(after_long_help = "Examples:
  trevlin reach exports/ --from outside --to 192.0.2.18 --proto tcp --port 443
  trevlin reach exports/ --from \"WireGuard wg0\" --to files --proto tcp --port 445
  trevlin reach exports/ --from \"WireGuard wg0\"      all that VPN clients reach
  trevlin reach exports/ --intents                    compare intents with actual access
  trevlin reach exports/ --from 10.20.4.9 --to 10.20.6.20 --proto tcp --port 80 --entering edge:eth1
  trevlin reach exports/ --flows flows.csv --format json

A flow file has the columns from,entering,to,proto,port and optionally expect (allowed, blocked or depends) and sport.

Exit status: 0 evaluated, 1 an expectation or intent does not hold, 2 not evaluated.")]
    Reach(Reach),
    /// List services reachable from the Internet or another source
    #[command(after_long_help = "Examples:
  trevlin exposure exports/                          services reachable from the Internet
  trevlin exposure exports/ --from 10.20.4.0/24      reachable from a network
  trevlin exposure exports/ --from \"WireGuard wg0\"  reachable by VPN clients
  trevlin exposure exports/ --from booking           reachable from a device
  trevlin exposure exports/ --picture paths.svg      draw the paths (or paths.png)
  trevlin exposure exports/ --format csv             for a spreadsheet; json has the schema trevlin-exposure/1")]
    Exposure(Exposure),
    /// List services of each device with protection and reachability
    #[command(after_long_help = "\
Examples:
  trevlin services exports/                          every device
  trevlin services exports/ --device quay-storage    one device
  trevlin services exports/ --format json            schema trevlin-services/1

Reachable from: ! the Internet, o some Internet addresses, c VPN clients, i internal networks, . the device only; x disabled")]
    Services(Services),
    /// Write a report in HTML, Markdown, CSV, SARIF, JSON or OSCAL
    #[command(after_long_help = "Examples:
  trevlin report exports/ --to report.html                      one self-contained page
  trevlin report exports/ --to handover/ --format html,csv,sarif  several formats, in a folder
  trevlin report exports/ --to - --format markdown              to standard output

Without --format the file extension decides: .html, .md, .csv, .sarif or .json. In a folder the files are report.html, report.md, findings.csv, findings.sarif, audit.json, assessment-results.json (OSCAL) and applicability.csv.")]
    Report(Box<Report>),
    /// List information requests for the administrators of each device
    #[command(after_long_help = "Examples:
  trevlin questions exports/                      Markdown, one section for each device
  trevlin questions exports/ --format csv         for a spreadsheet, with a column for answers

The contact of a device is set in trevlin.toml: [device.\"NAME\"] contact = \"Oda Lind\".")]
    Questions(Questions),
    /// Accept the risk of a finding, with owner, reason and end date
    #[command(after_long_help = "Example:
  trevlin accept 3089540224f1 exports/ --owner \"Astrid Holm\" --reason \"replaced in spring\" --until 2027-03-31

The entry is written to trevlin.toml in the folder. Accepted findings are listed separately until the end date, and are open again afterwards.")]
    Accept(Accept),
    /// Compare two audits: new, fixed and remaining findings, changed exposure and controls
    #[command(after_long_help = "Examples:
  trevlin compare exports-may/ exports-august/            two estates
  trevlin compare may.json exports-august/                a result saved with `trevlin audit --format json`
  trevlin compare may.json august.json --format markdown  for a ticket
  trevlin compare last.json exports/ --fail-on high       in a pipeline

Exit status: 0 no change for the worse, 1 a finding at or above --fail-on is new, more severe or open again, or a service is newly exposed, 2 not compared.")]
    Compare(Compare),
    /// Copy exports with every secret replaced, optionally addresses and names too
    #[command(after_long_help = "Examples:
  trevlin scrub exports/ --into copy/                                     secrets only
  trevlin scrub exports/ --into copy/ --addresses --names --key key.json  addresses and names as well
  trevlin compare exports/ copy/                                          findings that the copy no longer shows

Equal secrets have equal replacements, so reuse stays visible. Lines that were not understood are listed: review them before sharing the copy. The key file reverses names and addresses and permits guessing of secrets; keep it confidential.")]
    Scrub(Scrub),
    /// Show the thresholds of the checks and their sources
    #[command(after_long_help = "Examples:
  trevlin baseline                       the default thresholds, and the ready-made baselines
  trevlin baseline --base strict         a ready-made baseline
  trevlin baseline exports/              the baseline in effect, with differences by site and device

A baseline is set in trevlin.toml: [baseline], [baseline.site.NAME], [baseline.device.NAME].")]
    Baseline(Baseline),
    /// Create, check and print device sheets for appliances without an export
    #[command(subcommand)]
    Sheet(Sheet),
    /// Create and test phrasebooks for unsupported export formats
    #[command(subcommand)]
    Phrasebook(Phrasebook),
    /// List the checks, or describe one
    #[command(after_long_help = "Examples:
  trevlin checks                         every check, by area
  trevlin checks tunnels/pptp    risk, criteria and remedy

docs/checks contains the same descriptions.")]
    Checks {
        /// Check to describe, such as tunnels/pptp
        id: Option<String>,
    },
    /// Audit a made-up estate, or write it to a folder
    #[command(after_long_help = "Examples:
  trevlin demo                  audit a made-up estate
  trevlin demo --into tour/     write it, with a corrected version, to try every command")]
    Demo(Demo),
    /// Print a shell completion script
    #[command(after_long_help = "Examples:
  trevlin completions bash > ~/.local/share/bash-completion/completions/trevlin
  trevlin completions zsh > \"${fpath[1]}/_trevlin\"
  trevlin completions fish > ~/.config/fish/completions/trevlin.fish")]
    Completions {
        /// Shell
        #[arg(value_enum)]
        shell: Shell,
    },
}

/// Shells that can complete.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Shell {
    /// bash
    Bash,
    /// zsh
    Zsh,
    /// fish
    Fish,
}

#[derive(Debug, Args)]
pub(crate) struct Audit {
    /// Folders and files with exports
    #[arg(help_heading = "What to read", required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) selection: Selection,
    /// Output format
    #[arg(long, help_heading = "Output", value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
    #[command(flatten)]
    pub(crate) judging: Judging,
    /// Show every finding in full, not only the most important ones
    #[arg(long, help_heading = "Output", conflicts_with = "quiet")]
    pub(crate) full: bool,
    /// Exit with status 1 for a finding at or above this severity
    #[arg(long, help_heading = "Output", value_name = "SEVERITY", value_parser = severity)]
    pub(crate) fail_on: Option<Severity>,
}

#[derive(Debug, Args)]
pub(crate) struct Services {
    /// Folders and files with exports
    #[arg(help_heading = "What to read", required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Select a device (repeatable)
    #[arg(long, help_heading = "Selection", value_name = "NAME", value_delimiter = ',')]
    pub(crate) device: Vec<String>,
    /// Output format
    #[arg(long, help_heading = "Output", value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
}

#[derive(Debug, Args)]
pub(crate) struct Logins {
    /// Folders and files with exports
    #[arg(help_heading = "What to read", required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Select a device (repeatable)
    #[arg(long, help_heading = "Selection", value_name = "NAME", value_delimiter = ',')]
    pub(crate) device: Vec<String>,
    /// Output format
    #[arg(long, help_heading = "Output", value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
}

#[derive(Debug, Args)]
pub(crate) struct Tunnels {
    /// Folders and files with exports
    #[arg(help_heading = "What to read", required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Select a device (repeatable)
    #[arg(long, help_heading = "Selection", value_name = "NAME", value_delimiter = ',')]
    pub(crate) device: Vec<String>,
    /// Show details of the tunnels whose name contains this
    #[arg(long, help_heading = "Selection", value_name = "NAME")]
    pub(crate) detail: Option<String>,
    /// Output format
    #[arg(long, help_heading = "Output", value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
    #[command(flatten)]
    pub(crate) judging: Judging,
}

#[derive(Debug, Args)]
pub(crate) struct Addresses {
    /// Folders and files with exports
    #[arg(help_heading = "What to read", required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Show allocations near this address
    #[arg(long, help_heading = "Selection", value_name = "ADDR")]
    pub(crate) around: Option<IpAddr>,
    /// Propose free private networks for this number of VPN clients
    #[arg(long, help_heading = "Selection", value_name = "N", value_parser = clap::value_parser!(u32).range(1..), conflicts_with_all = ["around", "picture"])]
    pub(crate) free: Option<u32>,
    /// Draw the plan to an SVG or PNG file
    #[arg(long, help_heading = "Output", value_name = "FILE")]
    pub(crate) picture: Option<PathBuf>,
    /// Overwrite the file, and permit writing among the exports
    #[arg(long, help_heading = "Output", requires = "picture")]
    pub(crate) force: bool,
    /// Output format
    #[arg(long, help_heading = "Output", value_enum, default_value_t = TableFormat::Text)]
    pub(crate) format: TableFormat,
}

#[derive(Debug, Args)]
pub(crate) struct Rules {
    /// Folders and files with exports
    #[arg(help_heading = "What to read", required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Select a device (repeatable)
    #[arg(long, help_heading = "Selection", value_name = "NAME", value_delimiter = ',')]
    pub(crate) device: Vec<String>,
    /// Output format
    #[arg(long, help_heading = "Output", value_enum, default_value_t = TableFormat::Text)]
    pub(crate) format: TableFormat,
    /// Set the reference date, such as 2026-11-25 [default: today]
    #[arg(long, help_heading = "Selection", value_name = "DATE", value_parser = date, env = "TREVLIN_AS_OF", hide_env_values = true)]
    pub(crate) as_of: Option<Date>,
}

#[derive(Debug, Args)]
pub(crate) struct Exposure {
    /// Folders and files with exports
    #[arg(help_heading = "What to read", required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Set the source: `outside` (the Internet), an address, network, device or tunnel (its clients)
    #[arg(long, help_heading = "Selection", value_name = "WHERE", value_parser = source, default_value = "outside")]
    pub(crate) from: From,
    /// Select services of a device (repeatable)
    #[arg(long, help_heading = "Selection", value_name = "NAME", value_delimiter = ',')]
    pub(crate) device: Vec<String>,
    /// Draw the paths to an SVG or PNG file
    #[arg(long, help_heading = "Output", value_name = "FILE")]
    pub(crate) picture: Option<PathBuf>,
    /// Overwrite the file, and permit writing among the exports
    #[arg(long, help_heading = "Output", requires = "picture")]
    pub(crate) force: bool,
    /// Output format
    #[arg(long, help_heading = "Output", value_enum, default_value_t = TableFormat::Text)]
    pub(crate) format: TableFormat,
}

#[derive(Debug, Args)]
pub(crate) struct Reach {
    /// Folders and files with exports
    #[arg(help_heading = "What to read", required = true, value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    /// Set the source: an address, network, device, tunnel (its clients), group of users with fixed addresses, or `outside`
    /// (an Internet host that no rule names)
    #[arg(long, help_heading = "Selection", value_name = "WHERE", value_parser = source, required_unless_present_any = ["flows", "intents"])]
    pub(crate) from: Option<From>,
    /// Set the destination: an address, network, device, tunnel (its clients) or `outside` [default: any]
    #[arg(long, help_heading = "Selection", value_name = "WHERE")]
    pub(crate) to: Option<String>,
    /// Set the protocol, tcp or udp [default: list every service]
    #[arg(long, help_heading = "Selection", value_name = "PROTO", value_parser = transport, requires = "port")]
    pub(crate) proto: Option<Transport>,
    /// Set the destination port
    #[arg(long, help_heading = "Selection", value_name = "N", requires_all = ["proto", "to"])]
    pub(crate) port: Option<u16>,
    /// Set the source port [default: any ephemeral port]
    #[arg(long, help_heading = "Selection", value_name = "N")]
    pub(crate) sport: Option<u16>,
    /// Set the ingress interface [default: that of the source network]
    #[arg(long, help_heading = "Selection", value_name = "DEVICE:INTERFACE", value_parser = entrance)]
    pub(crate) entering: Option<(String, String)>,
    /// Evaluate every row of a flow file
    #[arg(long, help_heading = "Selection", value_name = "FILE.csv", conflicts_with_all = ["from", "to", "proto", "port", "sport", "entering"])]
    pub(crate) flows: Option<PathBuf>,
    /// Evaluate every intent of trevlin.toml
    #[arg(long, help_heading = "Selection", conflicts_with_all = ["flows", "from", "to", "proto", "port", "sport", "entering"])]
    pub(crate) intents: bool,
    /// Output format
    #[arg(long, help_heading = "Output", value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
}

/// A source of connections.
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

/// Criteria for findings.
#[derive(Debug, Args)]
pub(crate) struct Judging {
    /// Set the reference date, such as 2026-11-25 [default: today]
    #[arg(long, help_heading = "Selection", value_name = "DATE", value_parser = date, env = "TREVLIN_AS_OF", hide_env_values = true)]
    pub(crate) as_of: Option<Date>,
    /// Use a ready-made baseline: default, strict or legacy-site
    #[arg(long, help_heading = "Selection", value_name = "NAME")]
    pub(crate) baseline: Option<String>,
}

#[derive(Debug, Args, Default)]
pub(crate) struct Selection {
    /// Select an area (repeatable): logins, secrets, addresses, tunnels, ciphers, exposure, rules, upkeep
    #[arg(long, help_heading = "Selection", value_name = "AREA", value_parser = area, value_delimiter = ',')]
    pub(crate) area: Vec<Area>,
    /// Select findings at or above a severity: critical, high, medium, low, info
    #[arg(long, help_heading = "Selection", value_name = "SEVERITY", value_parser = severity)]
    pub(crate) severity: Option<Severity>,
    /// Select a device (repeatable)
    #[arg(long, help_heading = "Selection", value_name = "NAME", value_delimiter = ',')]
    pub(crate) device: Vec<String>,
    /// Select a check (repeatable); `trevlin checks` lists them
    #[arg(long, help_heading = "Selection", value_name = "ID", value_parser = check, value_delimiter = ',')]
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
    /// Show every finding in full, not only the most important ones
    #[arg(long, help_heading = "Output", conflicts_with_all = ["into", "quiet"])]
    pub(crate) full: bool,
    /// Write the demo estate to DIR/before and DIR/after instead of auditing it
    #[arg(long, help_heading = "Output", value_name = "DIR")]
    pub(crate) into: Option<PathBuf>,
    /// Set the reference date, such as 2026-11-25 [default: today]
    #[arg(long, help_heading = "Selection", value_name = "DATE", value_parser = date, env = "TREVLIN_AS_OF", hide_env_values = true)]
    pub(crate) as_of: Option<Date>,
    /// Overwrite existing files
    #[arg(long, help_heading = "Output", requires = "into")]
    pub(crate) force: bool,
}

/// Forms of output.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// Plain text
    Text,
    /// One JSON object
    Json,
}

/// Forms of a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum TableFormat {
    /// Plain text
    Text,
    /// One JSON object
    Json,
    /// CSV for spreadsheets
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
/// When there is none, with similar ids.
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
