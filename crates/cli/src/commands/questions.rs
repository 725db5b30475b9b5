//! `trevlin questions`: information requests by addressee.

use crate::args::{self, ListFormat};
use crate::context::{baseline, know_devices, print, selection, verbosity};
use crate::load;
use std::process::ExitCode;
use trevlin_audit::audit;

pub(crate) fn run(arguments: &args::Questions, common: &args::Common) -> anyhow::Result<ExitCode> {
    let estate = load::judged(&arguments.paths, verbosity(common), &arguments.judging)?;
    know_devices(&estate, &arguments.selection.device)?;
    let outcome =
        audit(&estate, &baseline(&estate, &arguments.judging)).select(&selection(&arguments.selection));
    match arguments.format {
        ListFormat::Markdown => {
            print(|out| trevlin_render::questions_markdown(&outcome, &estate.contacts, out))?;
        }
        ListFormat::Csv => print(|out| trevlin_render::questions_csv(&outcome, &estate.contacts, out))?,
    }
    Ok(ExitCode::SUCCESS)
}
