//! `trevlin yardstick`: which thresholds hold, and why.

use crate::args::{self, Format};
use crate::context::{print, telling, width};
use crate::load;
use anyhow::anyhow;
use std::process::ExitCode;
use trevlin_audit::{YardstickFile, ready_made};

pub(crate) fn run(arguments: &args::Yardstick, common: &args::Common) -> anyhow::Result<ExitCode> {
    let judging = args::Judging { as_of: None, yardstick: arguments.base.clone() };
    let rows = if arguments.paths.is_empty() {
        let mut file = YardstickFile::default();
        if let Some(base) = &arguments.base {
            file.begin_with(base).map_err(|error| anyhow!(error))?;
        }
        file.rows()
    } else {
        load::judged(&arguments.paths, telling(common), &judging)?.yardstick_rows()
    };
    let ready_made = if arguments.paths.is_empty() { ready_made() } else { &[] };
    match arguments.format {
        Format::Text => print(|out| trevlin_render::yardstick_text(&rows, ready_made, width(), out))?,
        Format::Json => print(|out| trevlin_render::yardstick_json(&rows, out))?,
    }
    Ok(ExitCode::SUCCESS)
}
