//! `trevlin report`: the report of an audit, as files.

use crate::args::{self, Common, ReportFormat};
use crate::commands::exposure::of_outside;
use crate::context::{baseline, bytes_of, know_devices, leave, print, selection, verbosity};
use crate::controls::{Catalogues, names_or_default, of_scope, received};
use crate::progress::Progress;
use crate::{load, output};
use anyhow::{Context, bail};
use std::cell::LazyCell;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use tracing::debug_span;
use trevlin_audit::coverage::{ControlSheet, Coverage, coverage};
use trevlin_audit::tables::exposure::ExposureSheet;
use trevlin_audit::{Analyses, Baseline, BaselineRow, Outcome, ReportEntry, audit, logins, tables};
use trevlin_render::{
    CoverageView, Csv, Json, Oscal, Renderer, Report, Sarif, coverage_csv, html, markdown_report,
};

/// Passes of a check on one system whose lines a report quotes.
const QUOTED: usize = 8;

impl ReportFormat {
    const ALL: [Self; 7] =
        [Self::Html, Self::Markdown, Self::Csv, Self::Sarif, Self::Json, Self::Oscal, Self::Applicability];

    /// Its file name in a folder.
    fn file(self) -> &'static str {
        match self {
            Self::Html => "report.html",
            Self::Markdown => "report.md",
            Self::Csv => "findings.csv",
            Self::Sarif => "findings.sarif",
            Self::Json => "audit.json",
            Self::Oscal => "assessment-results.json",
            Self::Applicability => "applicability.csv",
        }
    }

    /// The format for a file suffix.
    fn of(path: &Path) -> Option<Self> {
        let ending = path.extension()?.to_str()?.to_ascii_lowercase();
        Self::ALL.into_iter().find(|one| {
            let known = one.file().rsplit_once('.').map(|(_, known)| known);
            known == Some(ending.as_str()) || (*one == Self::Html && ending == "htm")
        })
    }
}

/// Runs the command.
///
/// # Errors
/// When the estate cannot be read, the files are there already, or cannot be written.
pub(crate) fn run(arguments: &args::Report, common: &Common) -> anyhow::Result<ExitCode> {
    let targets = targets(arguments)?;
    for (_, file) in &targets {
        if let Some(file) = file {
            may_write(file, arguments)?;
        }
    }
    let estate = load::judged(&arguments.paths, verbosity(common), &arguments.judging)?;
    let baseline = baseline(&estate, &arguments.judging);
    let progress = Progress::judging(estate.exports.len(), || bytes_of(&estate), verbosity(common));
    know_devices(&estate, &arguments.selection.device)?;
    let outcome = audit(&estate, &baseline).select(&selection(&arguments.selection));
    drop(progress);
    let front = estate.report.clone().with(arguments.front.clone().into());
    let title = title(&estate, &arguments.paths);
    let catalogues = Catalogues::of(&estate, verbosity(common));
    let names = if arguments.controls.is_empty() { of_scope(&estate) } else { arguments.controls.clone() };
    let catalogues = catalogues.named(&names_or_default(names))?;
    // Computed once, where a format needs them.
    let tested = LazyCell::new(|| {
        let received = received(&estate, &arguments.paths);
        let mut found = coverage(&estate, &outcome, &received, &arguments.selection.device);
        found.quote(&estate, QUOTED);
        found
    });
    let controls = LazyCell::new(|| -> Vec<ControlSheet<'_>> {
        catalogues.iter().map(|one| tested.controls(one)).collect()
    });
    let sheets = LazyCell::new(|| Sheets::of(&estate, &baseline, &outcome));
    for (format, file) in &targets {
        let mut bytes = Vec::new();
        let _timed = debug_span!("writing", format = format.file()).entered();
        match format {
            ReportFormat::Csv => Csv.render(&outcome, &mut bytes)?,
            ReportFormat::Sarif => Sarif { coverage: Some(&tested) }.render(&outcome, &mut bytes)?,
            ReportFormat::Json => Json { coverage: Some(&tested) }.render(&outcome, &mut bytes)?,
            ReportFormat::Oscal => Oscal { coverage: Some(&tested) }.render(&outcome, &mut bytes)?,
            ReportFormat::Applicability => {
                let view =
                    CoverageView { coverage: &tested, sheets: &controls, of_controls: true, passes: true };
                coverage_csv(&view, &mut bytes)?;
            }
            ReportFormat::Html => {
                let report = sheets.report(&front, &title, &outcome, &tested, &controls);
                bytes.extend(html(&report)?.into_bytes());
            }
            ReportFormat::Markdown => {
                let report = sheets.report(&front, &title, &outcome, &tested, &controls);
                bytes.extend(markdown_report(&report)?.into_bytes());
            }
        }
        match file {
            None => print(|out| out.write_all(&bytes))?,
            Some(file) => {
                output::replace(file, &bytes)?;
                if !common.quiet {
                    print(|out| writeln!(out, "{}", file.display()))?;
                }
            }
        }
    }
    drop(sheets);
    drop(controls);
    drop(tested);
    leave(estate, &outcome, None)
}

/// Which formats go where; no file is standard output.
fn targets(arguments: &args::Report) -> anyhow::Result<Vec<(ReportFormat, Option<PathBuf>)>> {
    let to = &arguments.to;
    let formats = &arguments.format;
    if to.as_os_str() == "-" {
        return match formats.as_slice() {
            [] => Ok(vec![(ReportFormat::Markdown, None)]),
            [one] => Ok(vec![(*one, None)]),
            _ => bail!("standard output takes one format; name a folder for several"),
        };
    }
    let ends_as_folder = to.to_string_lossy().ends_with(std::path::MAIN_SEPARATOR);
    let is_folder = to.is_dir() || ends_as_folder || formats.len() > 1 || to.extension().is_none();
    if is_folder {
        if to.is_file() {
            bail!("{} is a file; several formats need a folder", to.display());
        }
        let formats = if formats.is_empty() { vec![ReportFormat::Html] } else { formats.clone() };
        return Ok(formats.into_iter().map(|one| (one, Some(to.join(one.file())))).collect());
    }
    let format = match (formats.first().copied(), ReportFormat::of(to)) {
        (Some(format), _) | (None, Some(format)) => format,
        (None, None) => bail!(
            "the extension of {} is not a report format; use .html, .md, .csv, .sarif or .json, or set --format",
            to.display()
        ),
    };
    Ok(vec![(format, Some(to.clone()))])
}

/// Overwriting an earlier report, or writing among the exports, is rarely intended.
fn may_write(file: &Path, arguments: &args::Report) -> anyhow::Result<()> {
    output::may_write(file, "report", &arguments.paths, arguments.force)?;
    let folder = output::folder(file);
    fs::create_dir_all(folder).with_context(|| format!("{} cannot be created", folder.display()))
}

/// Whose estate it is: the organisation's name, or the folder's.
fn title(estate: &Analyses, paths: &[PathBuf]) -> String {
    if let Some(name) = estate.organisation.first() {
        return name.clone();
    }
    let names: Vec<String> = paths
        .iter()
        .map(|path| {
            let whole = fs::canonicalize(path).unwrap_or_else(|_| path.clone());
            whole
                .file_name()
                .map_or_else(|| path.display().to_string(), |name| name.to_string_lossy().into_owned())
        })
        .collect();
    names.join(", ")
}

/// Computes a table, and reports the time it took where requested.
fn timed<T>(table: &'static str, make: impl FnOnce() -> T) -> T {
    debug_span!("table", of = table).in_scope(make)
}

/// Tables for readers, besides the findings; programs use their own commands for them.
struct Sheets {
    logins: Vec<logins::LoginPath>,
    tunnels: Vec<tables::tunnels::TunnelRow>,
    services: Vec<tables::services::ServedRow>,
    rules: tables::rules::RulesSheet,
    exposure: Option<ExposureSheet>,
    plan: tables::addresses::Sheet,
    baseline: Vec<BaselineRow>,
}

impl Sheets {
    fn of(estate: &Analyses, baseline: &Baseline, outcome: &Outcome) -> Self {
        // Each table is made by one core, and they are about as large as each other.
        let ((rules, plan), ((logins, tunnels), (services, exposure))) = rayon::join(
            || {
                rayon::join(
                    || timed("rules", || tables::rules::sheet(estate, &[], baseline.as_of)),
                    || timed("addresses", || tables::addresses::sheet(estate, None)),
                )
            },
            || {
                rayon::join(
                    || {
                        let logins = timed("logins", || logins::logins(estate));
                        (logins, timed("tunnels", || tables::tunnels::tunnels(estate, baseline, outcome)))
                    },
                    || {
                        let services = timed("services", || tables::services::sheet(estate, &[]));
                        (services, timed("exposure", || of_outside(estate)))
                    },
                )
            },
        );
        let (exposure, baseline) = (Some(exposure), estate.baseline_rows());
        Self { logins, tunnels, services, rules, exposure, plan, baseline }
    }

    fn report<'a>(
        &'a self,
        front: &'a ReportEntry,
        estate: &'a str,
        outcome: &'a Outcome,
        coverage: &'a Coverage,
        sheets: &'a [ControlSheet<'a>],
    ) -> Report<'a> {
        Report {
            front,
            estate,
            outcome,
            logins: &self.logins,
            tunnels: &self.tunnels,
            services: &self.services,
            rules: &self.rules,
            exposure: self.exposure.as_ref(),
            plan: &self.plan,
            baseline: &self.baseline,
            coverage,
            sheets,
        }
    }
}
