//! Recognition of PostgreSQL host lists.

use crate::reader::TELLING_LINES;
use crate::telling::PG_HBA_KINDS as KINDS;
use crate::telling::PG_HBA_METHODS as METHODS;
use trevlin_model::Export;

/// Whether an export is such a list.
pub(super) fn is_list(export: &Export) -> bool {
    let tells = |text: &str| {
        let words = fields(text);
        words.first().is_some_and(|word| KINDS.contains(word))
            && words.iter().any(|word| METHODS.contains(word))
    };
    export.file_name() == "pg_hba.conf" || export.lines().take(TELLING_LINES).any(|line| tells(line.text))
}

/// Fields with the commas that join values; quotes hold one together.
pub(super) fn fields(text: &str) -> Vec<&str> {
    let mut found = Vec::new();
    let mut start = None;
    let mut quoted = false;
    let mut before = ' ';
    for (at, letter) in text.char_indices() {
        if letter == '#' && !quoted {
            found.extend(start.take().map(|from| &text[from..at]));
            return found;
        }
        if letter == '"' {
            quoted = !quoted;
        }
        // A blank behind a comma belongs to the field.
        if letter.is_whitespace() && !quoted && before != ',' {
            found.extend(start.take().map(|from| &text[from..at]));
        } else if start.is_none() && !letter.is_whitespace() {
            start = Some(at);
        }
        before = letter;
    }
    found.extend(start.map(|from| &text[from..]));
    found
}
