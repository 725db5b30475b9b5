//! Reports of an audit, for readers and for other programs.

mod csv;
mod layout;
mod markup;
mod oscal;
mod sarif;
mod tested;
mod view;

pub use csv::Csv;
pub use oscal::Oscal;
pub use sarif::Sarif;
pub use view::Report;

use layout::Layout;
pub(crate) use markup::{capitalized, markdown, ticked_markdown};
use minijinja::Error;
use tracing::debug_span;
use view::View;

/// A report that could not be laid out.
#[derive(Debug, thiserror::Error)]
#[error("the report could not be rendered: {0}")]
pub struct ReportError(#[from] Error);

/// The report as one self-contained HTML file.
///
/// # Errors
/// When it cannot be laid out.
pub fn html(report: &Report<'_>) -> Result<String, ReportError> {
    lay_out("html", report)
}

/// The report as Markdown (CommonMark with the tables of GFM).
///
/// # Errors
/// When it cannot be laid out.
pub fn markdown_report(report: &Report<'_>) -> Result<String, ReportError> {
    lay_out("md", report)
}

fn lay_out(form: &'static str, report: &Report<'_>) -> Result<String, ReportError> {
    let layout = Layout::new(form)?;
    let view = debug_span!("view").in_scope(|| View::of(report, &layout))?;
    Ok(debug_span!("rendering").in_scope(|| layout.whole(&view))?)
}
