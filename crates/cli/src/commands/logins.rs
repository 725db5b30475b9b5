//! `trevlin logins`: who logs in where, and how.

use crate::args::{self, Format};
use crate::context::{know_devices, print, verbosity, width};
use crate::load;
use std::process::ExitCode;
use trevlin_audit::logins;

pub(crate) fn run(arguments: &args::Logins, common: &args::Common) -> anyhow::Result<ExitCode> {
    let estate = load::estate(&arguments.paths, verbosity(common))?;
    know_devices(&estate, &arguments.device)?;
    let mut rows = logins::logins(&estate);
    rows.retain(|row| arguments.device.is_empty() || arguments.device.contains(&row.device));
    match arguments.format {
        Format::Text => print(|out| trevlin_render::logins_text(&rows, width(), out))?,
        Format::Json => print(|out| trevlin_render::logins_json(&rows, out))?,
    }
    Ok(ExitCode::SUCCESS)
}
