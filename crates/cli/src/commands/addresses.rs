//! `trevlin addresses`: allocations and their owners.

use crate::args::{self, TableFormat};
use crate::context::{print, verbosity, width};
use crate::picture;
use crate::{load, output};
use std::process::ExitCode;
use trevlin_audit::{addresses, tables};

/// How many free networks are proposed.
pub(crate) const FREE_NETWORKS: usize = 5;

pub(crate) fn run(arguments: &args::Addresses, common: &args::Common) -> anyhow::Result<ExitCode> {
    if let Some(file) = &arguments.picture {
        output::may_write(file, "picture", &arguments.paths, arguments.force)?;
    }
    let estate = load::estate(&arguments.paths, verbosity(common))?;
    if let Some(wanted) = arguments.free {
        let free = addresses::free(estate.plan(), wanted, FREE_NETWORKS);
        match arguments.format {
            TableFormat::Text => print(|out| trevlin_render::free_text(&free, wanted, out))?,
            TableFormat::Json => print(|out| trevlin_render::free_json(&free, out))?,
            TableFormat::Csv => print(|out| {
                writeln!(out, "network")?;
                free.iter().try_for_each(|net| writeln!(out, "{net}"))
            })?,
        }
        return Ok(ExitCode::SUCCESS);
    }
    let around = arguments.around.map(|address| tables::addresses::neighbourhood(estate.plan(), address));
    let sheet = tables::addresses::sheet(&estate, around);
    if let Some(file) = &arguments.picture {
        return picture::write(&sheet, file);
    }
    match arguments.format {
        TableFormat::Text => print(|out| trevlin_render::addresses_text(&sheet, width(), out))?,
        TableFormat::Json => print(|out| trevlin_render::addresses_json(&sheet, out))?,
        TableFormat::Csv => print(|out| trevlin_render::addresses_csv(&sheet, out))?,
    }
    Ok(ExitCode::SUCCESS)
}
