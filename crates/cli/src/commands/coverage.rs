//! `trevlin coverage`: tested subjects with their results, and subjects that were not judged.

use crate::args::{self, CoverageFormat};
use crate::context::{baseline, bytes_of, know_devices, leave, print, verbosity, width};
use crate::controls::{Catalogues, received};
use crate::load;
use crate::progress::Progress;
use std::process::ExitCode;
use trevlin_audit::audit;
use trevlin_audit::coverage::{ControlSheet, coverage};
use trevlin_render::{CoverageView, coverage_csv, coverage_json, coverage_markdown, coverage_text};

/// Runs the command.
///
/// # Errors
/// When the estate cannot be read, or a device or catalogue does not exist.
pub(crate) fn run(arguments: &args::Coverage, common: &args::Common) -> anyhow::Result<ExitCode> {
    let estate = load::judged(&arguments.paths, verbosity(common), &arguments.judging)?;
    let in_scope = estate.scope.iter().flat_map(|scope| &scope.systems);
    let exported: Vec<String> = {
        let absent: Vec<&String> = in_scope.collect();
        arguments.device.iter().filter(|name| !absent.contains(name)).cloned().collect()
    };
    know_devices(&estate, &exported)?;
    let catalogues = Catalogues::of(&estate, verbosity(common));
    let of_controls = !arguments.controls.is_empty();
    let wanted = if of_controls { catalogues.named(&arguments.controls)? } else { catalogues.all().to_vec() };
    let progress = Progress::judging(estate.exports.len(), || bytes_of(&estate), verbosity(common));
    let outcome = audit(&estate, &baseline(&estate, &arguments.judging));
    drop(progress);
    let received = received(&estate, &arguments.paths);
    let mut found = coverage(&estate, &outcome, &received, &arguments.device);
    if arguments.passes {
        found.quote(&estate, usize::MAX);
    }
    let sheets: Vec<ControlSheet<'_>> = wanted.iter().map(|one| found.controls(one)).collect();
    let view = CoverageView { coverage: &found, sheets: &sheets, of_controls, passes: arguments.passes };
    match arguments.format {
        CoverageFormat::Text => print(|out| coverage_text(&view, common.is_verbose(), width(), out))?,
        CoverageFormat::Json => print(|out| coverage_json(&view, out))?,
        CoverageFormat::Csv => print(|out| coverage_csv(&view, out))?,
        CoverageFormat::Markdown => print(|out| coverage_markdown(&view, out))?,
    }
    leave(estate, &outcome, None)
}
