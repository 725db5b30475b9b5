//! `trevlin baseline`: which thresholds hold, and why.

use crate::args::{self, Format};
use crate::context::{print, verbosity, width};
use crate::load;
use anyhow::anyhow;
use std::process::ExitCode;
use trevlin_audit::{BaselineFile, ready_made};

pub(crate) fn run(arguments: &args::Baseline, common: &args::Common) -> anyhow::Result<ExitCode> {
    let judging = args::Judging { as_of: None, baseline: arguments.base.clone() };
    let rows = if arguments.paths.is_empty() {
        let mut file = BaselineFile::default();
        if let Some(base) = &arguments.base {
            file.begin_with(base).map_err(|error| anyhow!(error))?;
        }
        file.rows()
    } else {
        load::judged(&arguments.paths, verbosity(common), &judging)?.baseline_rows()
    };
    let ready_made = if arguments.paths.is_empty() { ready_made() } else { &[] };
    match arguments.format {
        Format::Text => print(|out| trevlin_render::baseline_text(&rows, ready_made, width(), out))?,
        Format::Json => print(|out| trevlin_render::baseline_json(&rows, out))?,
    }
    Ok(ExitCode::SUCCESS)
}
