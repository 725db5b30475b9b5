//! Outcomes as text and data. Text from exports is sanitised here, on output.
//!
//! ```
//! use trevlin_audit::checks;
//! use trevlin_render::{check_page, explain, sanitize};
//!
//! let check = checks::find("tunnels/pptp").unwrap();
//! assert!(explain(check, 80).contains("RFC 2637"));
//! assert!(check_page(check).starts_with("# PPTP server enabled\n"));
//! // What could move a cursor is shown, not sent.
//! assert_eq!(sanitize("a\u{1b}[31mb"), "a\\u{1b}[31mb");
//! ```

mod addresses;
mod alike;
mod baseline;
mod checks;
mod columns;
mod compare;
mod counted;
mod coverage;
mod exposure;
mod incomplete;
mod intents;
mod json;
mod logins;
mod picture;
mod questions;
mod reach;
mod report;
mod requests;
mod rules;
mod sanitize;
mod services;
mod survey;
mod text;
mod top_findings;
mod tunnels;
mod unread;

pub use addresses::{addresses_csv, addresses_json, addresses_text, free_json, free_text};
pub use baseline::{baseline_json, baseline_text};
pub use checks::{check_index, check_page, explain, list};
pub use compare::{Names, compare_json, compare_markdown, compare_text};
pub use counted::counted;
pub use coverage::{CoverageView, coverage_csv, coverage_json, coverage_markdown, coverage_text};
pub use exposure::{exposure_csv, exposure_json, exposure_text};
pub use intents::{intents_json, intents_text};
pub use json::Json;
pub use logins::{logins_json, logins_text};
pub use picture::{PictureError, addresses_png, addresses_svg, exposure_png, exposure_svg};
pub use questions::{questions_csv, questions_markdown};
pub use reach::{FlowAnswer, reach_all_json, reach_all_text, reach_json, reach_text};
pub use report::{Csv, Oscal, Report, ReportError, Sarif, html, markdown_report};
pub use rules::{rules_csv, rules_json, rules_text};
pub use sanitize::sanitize;
pub use services::{services_json, services_text};
pub use survey::{survey_json, survey_text};
pub use text::{Detail, Text};
pub use tunnels::{tunnels_detail, tunnels_json, tunnels_text};

use std::io;
use trevlin_audit::Outcome;

/// A form of output.
pub trait Renderer {
    /// Writes an outcome.
    ///
    /// # Errors
    /// When writing fails.
    fn render(&self, outcome: &Outcome, out: &mut dyn io::Write) -> io::Result<()>;
}
