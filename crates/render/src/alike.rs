//! Findings that are shown as one: those of one check on one device with one severity, as one entry with a list.

use trevlin_audit::{Evidence, Finding};

/// Findings in the given order, those shown as one grouped at the place of the first.
pub(crate) fn alike<'a>(findings: impl IntoIterator<Item = &'a Finding>) -> Vec<Vec<&'a Finding>> {
    let mut groups: indexmap::IndexMap<_, Vec<&Finding>> = indexmap::IndexMap::new();
    for one in findings {
        groups.entry((one.check, &one.device, one.severity.word())).or_default().push(one);
    }
    groups.into_values().collect()
}

/// The title of findings that are shown as one: that of the only one, or of their check with their number.
pub(crate) fn title(group: &[&Finding]) -> String {
    match group {
        [only] => only.title.to_string(),
        several => format!("{} ({} findings)", check_title(several[0].check), several.len()),
    }
}

/// The title of a check.
pub(crate) fn check_title(id: &str) -> &str {
    trevlin_audit::checks::find(id).map_or(id, |check| check.title)
}

/// A line of evidence, and whether it is the one to cite.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Place<'a> {
    pub(crate) line: &'a Evidence,
    pub(crate) cited: bool,
}

/// Evidence file by file, that with the cited line first, and in each file in order of lines.
pub(crate) fn places(evidence: &[Evidence]) -> Vec<Vec<Place<'_>>> {
    let mut files: indexmap::IndexMap<&str, Vec<Place<'_>>> = indexmap::IndexMap::new();
    for (at, line) in evidence.iter().enumerate() {
        files.entry(&line.path).or_default().push(Place { line, cited: at == 0 });
    }
    files.values_mut().for_each(|lines| lines.sort_by_key(|one| one.line.line));
    files.into_values().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(path: &str, line: u32) -> Evidence {
        Evidence { path: path.into(), line, end_line: line, excerpt: "".into() }
    }

    #[test]
    fn evidence_is_in_order_of_its_file_with_the_cited_line_marked() {
        let evidence = [line("b", 9), line("a", 5), line("b", 2), line("a", 1)];
        let shown: Vec<Vec<(&str, u32, bool)>> = places(&evidence)
            .into_iter()
            .map(|file| file.into_iter().map(|one| (&*one.line.path, one.line.line, one.cited)).collect())
            .collect();
        assert_eq!(shown, [vec![("b", 2, false), ("b", 9, true)], vec![("a", 1, false), ("a", 5, false)]]);
    }
}
