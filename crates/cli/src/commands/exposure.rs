//! The exposure command.

use crate::args::{self, Common, TableFormat};
use crate::context::{know_devices, print, verbosity, width};
use crate::{load, output};
use std::process::ExitCode;
use trevlin_audit::Analyses;
use trevlin_audit::exposure::from;
use trevlin_audit::reachability::{From, NetworkModel};
use trevlin_audit::tables::exposure::{ExposureSheet, sheet};

/// Runs the command.
///
/// # Errors
/// When the source of the connections is not known, or the picture cannot be written.
pub(crate) fn run(arguments: &args::Exposure, common: &Common) -> anyhow::Result<ExitCode> {
    if let Some(file) = &arguments.picture {
        output::may_write(file, "picture", &arguments.paths, arguments.force)?;
    }
    let estate = load::estate(&arguments.paths, verbosity(common))?;
    know_devices(&estate, &arguments.device)?;
    let mut sheet = match &arguments.from {
        From::Outside => of_outside(&estate),
        place => {
            let services = &estate.internet().services;
            let exposure = from(&NetworkModel::of(&estate), services, place, None)?;
            sheet(&estate, services, &exposure, &name(place))
        }
    };
    let kept = |device: &String| arguments.device.is_empty() || arguments.device.contains(device);
    sheet.reached.retain(|one| kept(&one.device));
    sheet.openings.retain(|one| kept(&one.device));
    sheet.forwards.retain(|one| kept(&one.device));
    sheet.pings.retain(|one| kept(&one.device));
    if let Some(file) = &arguments.picture {
        return crate::picture::write_exposure(&sheet, file);
    }
    match arguments.format {
        TableFormat::Text => print(|out| trevlin_render::exposure_text(&sheet, width(), out))?,
        TableFormat::Json => print(|out| trevlin_render::exposure_json(&sheet, out))?,
        TableFormat::Csv => print(|out| trevlin_render::exposure_csv(&sheet, out))?,
    }
    Ok(ExitCode::SUCCESS)
}

/// Exposure to the Internet.
pub(crate) fn of_outside(estate: &Analyses) -> ExposureSheet {
    let internet = estate.internet();
    sheet(estate, &internet.services, &internet.outside, &name(&From::Outside))
}

/// A source as it was given.
pub(crate) fn name(from: &From) -> String {
    match from {
        From::Outside => "outside".to_owned(),
        From::Address(address) => address.to_string(),
        From::Network(net) => net.to_string(),
        From::Named(name) => name.clone(),
    }
}
