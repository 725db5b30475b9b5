//! Files of `[section]` headings and `key = value` lines.

use trevlin_model::{Export, Origin};

/// One `key = value` line.
#[derive(Debug, Clone)]
pub(crate) struct Entry<'a> {
    /// Key, as written.
    pub(crate) key: &'a str,
    /// Value, without the blanks around it; empty where there is no equals sign.
    pub(crate) value: &'a str,
    /// Whether it has an equals sign.
    pub(crate) has_value: bool,
    /// The line.
    pub(crate) origin: Origin,
}

/// A section: its heading's text, and its lines.
#[derive(Debug, Clone)]
pub(crate) struct Section<'a> {
    /// Name between the brackets; empty for lines above the first heading.
    pub(crate) name: &'a str,
    /// The heading; the file's beginning for lines above the first.
    pub(crate) origin: Origin,
    /// Comments right above the heading or between it and its first line, without their signs.
    pub(crate) comment: Option<&'a str>,
    /// Lines.
    pub(crate) entries: Vec<Entry<'a>>,
}

impl<'a> Section<'a> {
    /// Every line of a key, whatever its capitals.
    pub(crate) fn all<'s>(&'s self, key: &'s str) -> impl DoubleEndedIterator<Item = &'s Entry<'a>> {
        self.entries.iter().filter(move |entry| entry.key.eq_ignore_ascii_case(key))
    }

    /// The last line of a key.
    pub(crate) fn last(&self, key: &str) -> Option<&Entry<'a>> {
        self.entries.iter().rev().find(|entry| entry.key.eq_ignore_ascii_case(key))
    }
}

/// The sections of a text. A line that begins with one of `comments` is ignored.
pub(crate) fn sections<'a>(export: &'a Export, comments: &[char]) -> Vec<Section<'a>> {
    let heading = |name, origin, comment| Section { name, origin, comment, entries: Vec::new() };
    let mut found = vec![heading("", export.origin(0..0), None)];
    let mut comment = None;
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() {
            comment = None;
        } else if text.starts_with(comments) {
            let words = text.trim_start_matches(comments).trim();
            comment = Some(words);
            if let Some(last) = found.last_mut()
                && last.entries.is_empty()
            {
                last.comment.get_or_insert(words);
            }
        } else if let Some(name) = text.strip_prefix('[').and_then(|rest| rest.split(']').next()) {
            found.push(heading(name.trim(), export.origin_of(text), comment.take()));
        } else if let Some(last) = found.last_mut() {
            let (key, value) = text.split_once('=').unwrap_or((text, ""));
            last.entries.push(Entry {
                key: key.trim(),
                value: value.trim(),
                has_value: text.contains('='),
                origin: export.origin_of(text),
            });
            comment = None;
        }
    }
    found
}

/// The words of a value that a comment may follow.
pub(crate) fn before_comment<'a>(value: &'a str, signs: &[char]) -> &'a str {
    value.find(signs).map_or(value, |end| value[..end].trim_end())
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn sections_with_their_comments() {
        let text = "a = 1\n# the yard\n[Peer]\nKey=x=y\nbare\n\n; not this\n\n[Peer]\n# ann\nkey = z # w\n";
        let export = Export::new(ExportId(0), "x", text.into());
        let found = sections(&export, &['#', ';']);
        let told: Vec<_> = found.iter().map(|one| (one.name, one.comment, one.entries.len())).collect();
        assert_eq!(told, [("", None, 1), ("Peer", Some("the yard"), 2), ("Peer", Some("ann"), 1)]);
        assert_eq!(found[1].last("KEY").map(|entry| entry.value), Some("x=y"));
        assert!(!found[1].entries[1].has_value);
        assert_eq!(before_comment(found[2].last("key").unwrap().value, &['#']), "z");
    }
}
