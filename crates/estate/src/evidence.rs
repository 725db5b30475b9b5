//! Lines of exports that prove something, quoted with every secret masked.

use crate::assemble::Estate;
use serde::Serialize;
use std::sync::Arc;
use trevlin_model::{ExportId, Origin};

/// Most places one finding shows: beyond these more lines prove nothing more.
const MOST_EVIDENCE: usize = 8;

/// Most lines one place shows.
const MOST_EXCERPT_LINES: u32 = 5;

/// Longest excerpt line, in characters.
const LONGEST_EXCERPT_LINE: usize = 160;

/// Characters of a long line that are shown before the place it is cited for.
const SHOWN_BEFORE: usize = 24;

/// A place that proves something.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Evidence {
    /// Path below the estate.
    pub path: Arc<str>,
    /// First line, from 1.
    pub line: u32,
    /// Last line.
    pub end_line: u32,
    /// The lines, secrets masked, cut to a few.
    pub excerpt: Arc<str>,
}

/// Places as text, each line once.
pub fn evidence(estate: &Estate, origins: &[Origin]) -> Vec<Evidence> {
    // Most have one place.
    let mut found: Vec<Evidence> = Vec::with_capacity(origins.len().min(1));
    let mut told: Vec<(ExportId, u32)> = Vec::new();
    for origin in origins {
        let line = (origin.export, estate.export(origin.export).line_of(origin.start));
        if found.len() == MOST_EVIDENCE {
            break;
        }
        if !told.contains(&line) {
            told.push(line);
            found.push(place(estate, *origin));
        }
    }
    found.shrink_to_fit();
    found
}

/// One place as text.
pub fn place(estate: &Estate, origin: Origin) -> Evidence {
    let export = estate.export(origin.export);
    let start = export.position(origin.start);
    let end = export.position(origin.end.max(origin.start + 1) - 1);
    let last = end.line.max(start.line);
    // The content of a certificate or a key is not informative for readers.
    let encoded =
        // Read: the line of an export.
        export.line(start.line).is_some_and(|line| line.text.trim_start().starts_with("-----BEGIN "));
    let shown = if encoded { start.line } else { last.min(start.line + MOST_EXCERPT_LINES - 1) };
    let mut lines = Vec::new();
    for number in start.line..=shown {
        let Some(line) = export.line(number) else { break };
        // In a very long line only the surroundings of the place are examined: each of many findings quotes a part of it.
        let at = if number == start.line { origin.start.saturating_sub(line.start) as usize } else { 0 };
        let (text, before) = around(line.text, at, estate.masker().longest_value());
        let masked = estate.masker().mask_at(text, export.origin_of(text));
        // How far into the masked line the place lies: what stands before it, masked alike.
        let column = estate.masker().mask_at(before, export.origin_of(before)).chars().count();
        let cut_before = text.as_ptr() != line.text.as_ptr();
        let shown = window(&masked, if number == start.line { column } else { 0 });
        lines.push(if cut_before && !shown.starts_with('…') { format!("… {shown}") } else { shown });
    }
    if shown < last {
        lines.push("…".into());
    }
    lines.dedup();
    Evidence {
        path: export.shared_path(),
        line: start.line,
        end_line: last,
        excerpt: lines.join("\n").into(),
    }
}

/// The part of a line around a byte, far longer than its excerpt, and the length before the byte. No secret that is masked by value, of
/// which none is longer than `longest`, extends from the excerpt to the ends of the part.
fn around(line: &str, at: usize, longest: usize) -> (&str, &str) {
    const MARGIN: usize = 1 << 10;
    let margin = MARGIN.max(4 * LONGEST_EXCERPT_LINE) + longest;
    let boundary = |mut at: usize| {
        at = at.min(line.len());
        while !line.is_char_boundary(at) {
            at -= 1;
        }
        at
    };
    let (from, at, to) =
        (boundary(at.saturating_sub(margin)), boundary(at), boundary(at.saturating_add(margin)));
    (&line[from..to], &line[from..at])
}

/// The part of a long line around a column; it is cut only after masking, so no cut can lay a secret bare.
fn window(line: &str, column: usize) -> String {
    let length = line.chars().count();
    if length <= LONGEST_EXCERPT_LINE {
        return line.to_owned();
    }
    let from = column.saturating_sub(SHOWN_BEFORE).min(length - LONGEST_EXCERPT_LINE);
    let part: String = line.chars().skip(from).take(LONGEST_EXCERPT_LINE).collect();
    let (left, right) =
        (if from > 0 { "… " } else { "" }, if from + LONGEST_EXCERPT_LINE < length { " …" } else { "" });
    format!("{left}{part}{right}")
}
