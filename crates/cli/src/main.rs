//! The `trevlin` command.

mod args;
mod commands;
mod context;
mod controls;
mod demo;
mod file;
mod labels;
mod limits;
mod links;
mod load;
mod manifest;
mod messages;
mod open;
mod output;
mod packed;
mod passed_over;
mod phrasebooks;
mod picture;
mod preload;
mod progress;
mod read;
mod unfinished;
mod verbosity;
mod walk;

use clap::Parser;
use std::process::ExitCode;

/// Facts are many small things: where an export of 100 MB is full of rules, half of the time went to the system's allocator.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// How many threads work on files and devices.
fn work_on(jobs: Option<std::num::NonZeroUsize>) -> anyhow::Result<()> {
    if let Some(jobs) = jobs {
        rayon::ThreadPoolBuilder::new().num_threads(jobs.get()).build_global()?;
    }
    Ok(())
}

fn main() -> ExitCode {
    messages::tell_faults_without_their_words();
    preload::begin();
    let arguments = args::Arguments::parse();
    arguments.common.color.write_global();
    if arguments.common.verbose > 1 {
        messages::tell_times();
    }
    let run = || {
        limits::set(&arguments.common.limit)?;
        work_on(arguments.common.jobs)?;
        commands::run(&arguments)
    };
    // An internal error was reported when it occurred.
    match std::panic::catch_unwind(std::panic::AssertUnwindSafe(run)).unwrap_or(Ok(ExitCode::from(2))) {
        Ok(code) => code,
        Err(error) => {
            messages::error(&format!("{error:#}"));
            ExitCode::from(2)
        }
    }
}
