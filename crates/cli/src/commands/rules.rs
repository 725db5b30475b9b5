//! `trevlin rules`: packet filters, rule by rule.

use crate::args::{self, TableFormat};
use crate::context::{know_devices, print, today, verbosity, width};
use crate::load;
use std::process::ExitCode;
use trevlin_audit::tables;

pub(crate) fn run(arguments: &args::Rules, common: &args::Common) -> anyhow::Result<ExitCode> {
    let estate = load::estate(&arguments.paths, verbosity(common))?;
    know_devices(&estate, &arguments.device)?;
    let sheet = tables::rules::sheet(&estate, &arguments.device, arguments.as_of.unwrap_or_else(today));
    match arguments.format {
        TableFormat::Text => print(|out| trevlin_render::rules_text(&sheet, width(), out))?,
        TableFormat::Json => print(|out| trevlin_render::rules_json(&sheet, out))?,
        TableFormat::Csv => print(|out| trevlin_render::rules_csv(&sheet, out))?,
    }
    Ok(ExitCode::SUCCESS)
}
