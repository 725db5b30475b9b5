//! The commands.

mod accept;
mod addresses;
mod audit;
mod baseline;
mod checks;
mod collect;
mod compare;
mod completions;
mod coverage;
mod demo;
mod exposure;
mod interview;
mod logins;
mod phrasebook;
mod phrasebook_coverage;
mod questions;
mod reach;
mod report;
mod rules;
mod scrub;
mod services;
mod sheet;
mod survey;
mod tunnels;

use crate::args::{Arguments, Command};
use std::process::ExitCode;

/// Runs the command.
///
/// # Errors
/// When it could not be done.
pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<ExitCode> {
    match &arguments.command {
        Command::Survey(survey) => survey::run(survey, &arguments.common),
        Command::Coverage(coverage) => coverage::run(coverage, &arguments.common),
        Command::Audit(audit) => audit::run(audit, &arguments.common),
        Command::Logins(logins) => logins::run(logins, &arguments.common),
        Command::Tunnels(tunnels) => tunnels::run(tunnels, &arguments.common),
        Command::Addresses(addresses) => addresses::run(addresses, &arguments.common),
        Command::Rules(rules) => rules::run(rules, &arguments.common),
        Command::Exposure(exposure) => exposure::run(exposure, &arguments.common),
        Command::Services(services) => services::run(services, &arguments.common),
        Command::Reach(reach) => reach::run(reach, &arguments.common),
        Command::Report(report) => report::run(report, &arguments.common),
        Command::Questions(questions) => questions::run(questions, &arguments.common),
        Command::Accept(accept) => accept::run(accept),
        Command::Compare(compare) => compare::run(compare, &arguments.common),
        Command::Scrub(scrub) => scrub::run(scrub, &arguments.common),
        Command::Baseline(baseline) => baseline::run(baseline, &arguments.common),
        Command::Phrasebook(book) => phrasebook::run(book),
        Command::Sheet(sheet) => sheet::run(sheet, &arguments.common),
        Command::Collect(collect) => collect::run(collect),
        Command::Checks { id } => checks::run(id.as_deref()),
        Command::Demo(demo) => demo::run(demo, &arguments.common),
        Command::Completions { shell } => completions::run(*shell),
    }
}
