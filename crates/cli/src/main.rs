//! The `trevlin` command.

mod args;
mod commands;
mod demo;
mod exposure;
mod labels;
mod load;
mod messages;
mod phrasebook;
mod phrasebooks;
mod picture;
mod reach;
mod sheet;
mod walk;

use clap::Parser;
use std::process::ExitCode;

fn main() -> ExitCode {
    let arguments = args::Arguments::parse();
    arguments.common.color.write_global();
    match commands::run(&arguments) {
        Ok(code) => code,
        Err(error) => {
            messages::error(&format!("{error:#}"));
            ExitCode::from(2)
        }
    }
}
