//! Writes pictures.

use crate::output;
use anyhow::bail;
use std::path::Path;
use std::process::ExitCode;
use trevlin_audit::tables::addresses::Sheet;
use trevlin_audit::tables::exposure::ExposureSheet;
use trevlin_render::PictureError;

/// Writes the address plan as SVG or PNG, by the file's ending.
///
/// # Errors
/// When the ending is neither, it cannot be drawn, or the file cannot be written.
pub(crate) fn write(sheet: &Sheet, file: &Path) -> anyhow::Result<ExitCode> {
    by_ending(file, || trevlin_render::addresses_svg(sheet), || trevlin_render::addresses_png(sheet))
}

/// Writes the exposure as a picture, in the same way.
///
/// # Errors
/// As for the address plan.
pub(crate) fn write_exposure(sheet: &ExposureSheet, file: &Path) -> anyhow::Result<ExitCode> {
    by_ending(file, || trevlin_render::exposure_svg(sheet), || trevlin_render::exposure_png(sheet))
}

fn by_ending(
    file: &Path,
    svg: impl Fn() -> String,
    png: impl Fn() -> Result<Vec<u8>, PictureError>,
) -> anyhow::Result<ExitCode> {
    let ending = file.extension().and_then(|ending| ending.to_str()).unwrap_or_default().to_ascii_lowercase();
    let bytes = match ending.as_str() {
        "svg" => svg().into_bytes(),
        "png" => png()?,
        _ => bail!("{} is neither an .svg nor a .png file; use one of these extensions", file.display()),
    };
    output::replace(file, &bytes)?;
    Ok(ExitCode::SUCCESS)
}
