//! `trevlin services`: what each device serves.

use crate::args::{self, Format};
use crate::context::{know_devices, print, verbosity, width};
use crate::load;
use std::process::ExitCode;
use trevlin_audit::tables;

pub(crate) fn run(arguments: &args::Services, common: &args::Common) -> anyhow::Result<ExitCode> {
    let estate = load::estate(&arguments.paths, verbosity(common))?;
    know_devices(&estate, &arguments.device)?;
    let rows = tables::services::sheet(&estate, &arguments.device);
    let not_read = tables::unread::unread(&estate, &arguments.device);
    match arguments.format {
        Format::Text => print(|out| trevlin_render::services_text(&rows, &not_read, width(), out))?,
        Format::Json => print(|out| trevlin_render::services_json(&rows, &not_read, out))?,
    }
    Ok(ExitCode::SUCCESS)
}
