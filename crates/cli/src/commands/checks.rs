//! `trevlin checks`: the list of checks.

use crate::args::{self};
use crate::context::{print, width};
use anyhow::anyhow;
use std::process::ExitCode;
use trevlin_audit::checks;

pub(crate) fn run(id: Option<&str>) -> anyhow::Result<ExitCode> {
    let page = match id {
        None => trevlin_render::list(checks::CHECKS),
        Some(id) => trevlin_render::explain(args::known_check(id).map_err(|told| anyhow!(told))?, width()),
    };
    print(|out| out.write_all(page.as_bytes()))?;
    Ok(ExitCode::SUCCESS)
}
