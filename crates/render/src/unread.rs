//! Files in no format that is read, where results may lack what they configure.

use crate::sanitize;
use anstyle::Style;
use std::io;
use textwrap::Options;
use trevlin_audit::tables::unread::UnreadRow;

const DIM: Style = Style::new().dimmed();

/// Files in no format that is read, as a paragraph: services of theirs are not listed.
pub(crate) fn unread(rows: &[UnreadRow], width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    const MOST: usize = 6;
    if rows.is_empty() {
        return Ok(());
    }
    let mut named: Vec<String> = rows.iter().take(MOST).map(|one| sanitize(&one.path).into_owned()).collect();
    if rows.len() > MOST {
        named.push(format!("and {} more (`trevlin survey` lists them)", rows.len() - MOST));
    }
    let text = format!("not read, so services that they configure are not listed: {}", named.join(", "));
    for line in textwrap::wrap(&text, Options::new(width).subsequent_indent("  ").break_words(false)) {
        writeln!(out, "{DIM}{line}{DIM:#}")?;
    }
    Ok(())
}
