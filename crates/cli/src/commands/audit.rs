//! `trevlin audit`: every check, over everything that was given.

use crate::args::{self, Format};
use crate::context::{again, baseline, bytes_of, know_devices, leave, print, selection, text, verbosity};
use crate::controls::received;
use crate::load;
use crate::progress::Progress;
use std::process::ExitCode;
use trevlin_audit::audit;
use trevlin_audit::coverage::coverage;
use trevlin_render::{Json, Renderer};

pub(crate) fn run(arguments: &args::Audit, common: &args::Common) -> anyhow::Result<ExitCode> {
    let estate = load::judged(&arguments.paths, verbosity(common), &arguments.judging)?;
    know_devices(&estate, &arguments.selection.device)?;
    let selection = selection(&arguments.selection);
    let progress = Progress::judging(estate.exports.len(), || bytes_of(&estate), verbosity(common));
    let outcome = audit(&estate, &baseline(&estate, &arguments.judging)).select(&selection);
    drop(progress);
    match arguments.format {
        Format::Text => {
            let full = arguments.full || arguments.selection.is_partial();
            print(|out| text(common, full, &again(&arguments.paths)).render(&outcome, out))?;
        }
        Format::Json => {
            let received = received(&estate, &arguments.paths);
            let coverage = coverage(&estate, &outcome, &received, &arguments.selection.device);
            print(|out| Json { coverage: Some(&coverage) }.render(&outcome, out))?;
        }
    }
    leave(estate, &outcome, arguments.fail_on)
}
