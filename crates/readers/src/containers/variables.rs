//! Names in braces and their values: `.env` beside a Compose file (compose-spec, "Interpolation"; docker-compose(1)).

use std::collections::BTreeMap;

/// Values by name.
pub(super) type Variables = BTreeMap<String, String>;

/// The values of a `.env` file, each with the part of the text that it is.
pub(super) fn assignments(text: &str) -> impl Iterator<Item = (&str, &str, &str)> {
    text.lines().filter_map(|line| {
        let line = line.trim();
        let (name, value) = line.strip_prefix("export ").unwrap_or(line).split_once('=')?;
        let plain = !name.is_empty() && name.bytes().all(|one| one.is_ascii_alphanumeric() || one == b'_');
        (plain && !line.starts_with('#')).then_some((name, crate::serving::unquoted(value.trim()), line))
    })
}

/// Replaces names by their values. `None` where one has none: what it stands for is not known.
pub(super) fn replaced(text: &str, values: &Variables) -> Option<String> {
    let mut made = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find('$') {
        made.push_str(&rest[..at]);
        rest = &rest[at + 1..];
        if let Some(after) = rest.strip_prefix('$') {
            made.push('$');
            rest = after;
            continue;
        }
        let (inner, after) = match rest.strip_prefix('{') {
            Some(inside) => inside.split_once('}')?,
            None => {
                let is_name = |one: char| one.is_ascii_alphanumeric() || one == '_';
                let end = rest.find(|one| !is_name(one)).unwrap_or(rest.len());
                rest.split_at(end)
            }
        };
        let end = inner.find([':', '-', '?', '+']).unwrap_or(inner.len());
        let (name, operation) = inner.split_at(end);
        let value = values.get(name).filter(|value| !operation.starts_with(':') || !value.is_empty());
        let other = operation.strip_prefix(':').unwrap_or(operation);
        match (value, other.strip_prefix('-'), other.strip_prefix('+')) {
            (Some(_), _, Some(other)) => made.push_str(other),
            (None, _, Some(_)) => {}
            (Some(value), _, _) => made.push_str(value),
            (None, Some(default), _) => made.push_str(default),
            (None, None, None) => return None,
        }
        rest = after;
    }
    made.push_str(rest);
    Some(made)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_defaults() {
        let text = "# ports\nPORT=8080\nexport HOST=\"192.0.2.9\"\nEMPTY=\nnot one\n";
        let values: Variables =
            assignments(text).map(|(name, value, _)| (name.into(), value.into())).collect();
        for (text, wanted) in [
            ("${PORT}:80", Some("8080:80")),
            ("$HOST:$PORT:80", Some("192.0.2.9:8080:80")),
            ("${NONE:-443}:80", Some("443:80")),
            ("${NONE-443}:80", Some("443:80")),
            ("${EMPTY:-443}", Some("443")),
            ("${EMPTY-443}", Some("")),
            ("${PORT:+1}", Some("1")),
            ("${NONE:?missing}", None),
            ("${NONE}", None),
            ("cost $$5", Some("cost $5")),
            ("open ${", None),
        ] {
            assert_eq!(replaced(text, &values).as_deref(), wanted, "{text}");
        }
    }
}
