//! Sections and keys of the last chapter of the questions.

/// Keys of a section that no question has.
#[derive(Debug)]
pub(super) struct Further {
    /// Heading of the section, with the brackets; none for a statement about the device.
    pub(super) heading: Option<String>,
    /// Name of the section.
    pub(super) section: String,
    /// Each key with its form and meaning.
    pub(super) keys: Vec<(String, String)>,
}

/// The keys of the last chapter.
pub(super) fn further(guide: &str) -> Vec<Further> {
    let mut found: Vec<Further> = Vec::new();
    let mut last = false;
    for line in guide.lines() {
        let Some(rest) = line.strip_prefix("# ") else { continue };
        last |= rest.contains("EVERYTHING ELSE");
        if !last {
            continue;
        }
        if rest.starts_with('[') {
            let section = rest.trim_matches(['[', ']']).to_owned();
            found.push(Further { heading: Some(rest.to_owned()), section, keys: Vec::new() });
        } else if let Some(more) = rest.strip_prefix("      ") {
            if let Some((_, about)) = found.last_mut().and_then(|one| one.keys.last_mut()) {
                about.push(' ');
                about.push_str(more.trim());
            }
        } else if let Some((key, about)) = rest.trim_start().split_once(" (") {
            let key = (key.trim_matches('`').to_owned(), format!("({about}"));
            if rest.starts_with(' ') {
                if let Some(one) = found.last_mut() {
                    one.keys.push(key);
                }
            } else if !key.0.contains(' ') {
                found.push(Further { heading: None, section: key.0.clone(), keys: vec![key] });
            }
        }
    }
    found
}
