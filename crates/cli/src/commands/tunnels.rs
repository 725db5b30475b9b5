//! `trevlin tunnels`: every tunnel, and the results of the checks on it.

use crate::args::{self, Format};
use crate::context::{baseline, know_devices, print, verbosity, width};
use crate::load;
use anyhow::bail;
use std::process::ExitCode;
use trevlin_audit::{audit_areas, tables};

pub(crate) fn run(arguments: &args::Tunnels, common: &args::Common) -> anyhow::Result<ExitCode> {
    let estate = load::judged(&arguments.paths, verbosity(common), &arguments.judging)?;
    know_devices(&estate, &arguments.device)?;
    let mut rows = {
        let baseline = baseline(&estate, &arguments.judging);
        tables::tunnels::tunnels(
            &estate,
            &baseline,
            &audit_areas(&estate, &baseline, &tables::tunnels::AREAS),
        )
    };
    rows.retain(|row| arguments.device.is_empty() || arguments.device.contains(&row.device));
    if let Some(name) = &arguments.detail {
        let before: Vec<String> = rows.iter().map(|row| row.name.clone()).collect();
        rows.retain(|row| row.name.contains(name.as_str()));
        if rows.is_empty() {
            bail!("there is no tunnel with `{name}` in its name; known are: {}", before.join(", "));
        }
    }
    match (arguments.format, &arguments.detail) {
        (Format::Json, _) => print(|out| trevlin_render::tunnels_json(&rows, out))?,
        (Format::Text, Some(_)) => {
            let all: Vec<_> = rows.iter().collect();
            print(|out| trevlin_render::tunnels_detail(&all, out))?;
        }
        (Format::Text, None) => print(|out| trevlin_render::tunnels_text(&rows, width(), out))?,
    }
    Ok(ExitCode::SUCCESS)
}
