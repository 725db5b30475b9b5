//! `trevlin completions`: for the shell.

use crate::args::{self, Arguments};
use crate::context::print;
use clap::CommandFactory;
use std::process::ExitCode;

pub(crate) fn run(shell: args::Shell) -> anyhow::Result<ExitCode> {
    let shell = match shell {
        args::Shell::Bash => clap_complete::Shell::Bash,
        args::Shell::Zsh => clap_complete::Shell::Zsh,
        args::Shell::Fish => clap_complete::Shell::Fish,
    };
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut Arguments::command(), "trevlin", &mut script);
    print(|out| out.write_all(&script))?;
    Ok(ExitCode::SUCCESS)
}
