//! `trevlin collect`: a script that collects an export on a machine.

use crate::args;
use crate::context::print;
use std::process::ExitCode;
use trevlin_readers::collecting::{System, script};

/// Runs the command.
///
/// # Errors
/// When the script cannot be printed.
pub(crate) fn run(arguments: &args::Collect) -> anyhow::Result<ExitCode> {
    let system = match arguments.system {
        args::CollectedSystem::Debian => System::Debian,
        args::CollectedSystem::Redhat => System::RedHat,
        args::CollectedSystem::Openwrt => System::OpenWrt,
        args::CollectedSystem::Bsd => System::Bsd,
    };
    let text = script(system, &arguments.roles, arguments.private_keys);
    print(|out| out.write_all(text.as_bytes()))?;
    Ok(ExitCode::SUCCESS)
}
