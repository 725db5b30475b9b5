//! Writes the picture of an address plan.

use anyhow::{Context, bail};
use std::fs;
use std::path::Path;
use std::process::ExitCode;
use trevlin_audit::plan::Sheet;

/// Writes it as SVG or PNG, by the file's ending.
///
/// # Errors
/// When the ending is neither, it cannot be drawn, or the file cannot be written.
pub(crate) fn write(sheet: &Sheet, file: &Path) -> anyhow::Result<ExitCode> {
    let ending = file.extension().and_then(|ending| ending.to_str()).unwrap_or_default().to_ascii_lowercase();
    let bytes = match ending.as_str() {
        "svg" => trevlin_render::addresses_svg(sheet).into_bytes(),
        "png" => trevlin_render::addresses_png(sheet)?,
        _ => bail!(
            "{} is neither an .svg nor a .png file; name the picture by what it is to be",
            file.display()
        ),
    };
    fs::write(file, bytes).with_context(|| format!("{} cannot be written", file.display()))?;
    Ok(ExitCode::SUCCESS)
}
