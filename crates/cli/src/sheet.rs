//! `trevlin sheet`.

use crate::args::{self, Common};
use crate::{commands, load};
use anyhow::bail;
use std::process::ExitCode;
use trevlin_audit::Estate;
use trevlin_model::{Device, Origin};
use trevlin_readers::{Head, write_sheet};

/// Runs the command.
///
/// # Errors
/// When it could not be done.
pub(crate) fn run(sheet: &args::Sheet, common: &Common) -> anyhow::Result<ExitCode> {
    match sheet {
        args::Sheet::Show(show) => shown(show, common),
    }
}

fn shown(arguments: &args::SheetShow, common: &Common) -> anyhow::Result<ExitCode> {
    let estate = load::estate(&arguments.paths, commands::telling(common))?;
    let device = chosen(&estate, arguments.device.as_deref())?;
    let text = written(&estate, device);
    commands::print(|out| out.write_all(text.as_bytes()))?;
    Ok(ExitCode::SUCCESS)
}

fn chosen<'a>(estate: &'a Estate, name: Option<&str>) -> anyhow::Result<&'a Device> {
    match (name, estate.devices.as_slice()) {
        (Some(name), _) => {
            commands::know_devices(estate, &[name.to_owned()])?;
            let found = estate.devices.iter().find(|device| device.name == name);
            found.ok_or_else(|| anyhow::anyhow!("there is no device `{name}`"))
        }
        (None, [only]) => Ok(only),
        (None, all) => {
            let names: Vec<_> = all.iter().map(|device| device.name.as_str()).collect();
            bail!("which device? Say --device with one of: {}", names.join(", "))
        }
    }
}

/// A device as a sheet.
fn written(estate: &Estate, device: &Device) -> String {
    let file = |origin: Origin| estate.export(origin.export).path().to_owned();
    let seen = |origin: Origin| {
        let export = estate.export(origin.export);
        format!("{}, line {}", export.path(), export.position(origin.start).line)
    };
    let mask = |text: &str| estate.masker().mask(text);
    let files: Vec<String> = device.exports.iter().map(|id| estate.export(*id).path().to_owned()).collect();
    write_sheet(
        &device.facts,
        &Head {
            device: &device.name,
            kind: device.kind,
            files: &files,
            seen: &seen,
            file: &file,
            mask: &mask,
        },
    )
}
