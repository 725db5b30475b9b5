//! Words of a line: the keyword, `=` or blanks, then arguments with single or double quotes; `#` at the start of an
//! argument begins a comment.

/// The keyword in small letters, and its arguments; `None` for blank lines and comments.
pub(super) fn keyword(line: &str) -> Option<(String, &str)> {
    let line = line.trim_matches([' ', '\t', '\r', '\u{c}']);
    if line.is_empty() || line.starts_with('#') {
        return None;
    }
    let end = line.find([' ', '\t', '=', '"']).unwrap_or(line.len());
    let rest = line[end..].trim_start_matches([' ', '\t']);
    let rest = rest.strip_prefix('=').map_or(rest, |rest| rest.trim_start_matches([' ', '\t']));
    Some((line[..end].to_ascii_lowercase(), rest))
}

/// The arguments with quotes and escapes resolved, and their syntax errors.
pub(super) fn arguments(rest: &str) -> (Vec<String>, Option<&'static str>) {
    let mut found = Vec::new();
    let mut letters = rest.chars().peekable();
    loop {
        while letters.next_if(|letter| matches!(letter, ' ' | '\t')).is_some() {}
        match letters.peek() {
            None | Some('#') => return (found, None),
            Some(_) => {}
        }
        let (mut text, mut quote) = (String::new(), None);
        while let Some(letter) = letters.next() {
            match (letter, quote) {
                ('\\', _) => match letters.peek().copied() {
                    Some(next @ ('"' | '\'' | '\\')) => {
                        text.push(next);
                        letters.next();
                    }
                    Some(' ') if quote.is_none() => {
                        text.push(' ');
                        letters.next();
                    }
                    _ => text.push('\\'),
                },
                (' ' | '\t', None) => break,
                ('"' | '\'', None) => quote = Some(letter),
                (_, Some(open)) if open == letter => quote = None,
                _ => text.push(letter),
            }
        }
        if quote.is_some() {
            return (found, Some("a quotation mark is not closed"));
        }
        found.push(text);
    }
}

/// Words of a `Match` line: separated by blanks or `=`, with double quotes.
pub(super) fn delimited(rest: &str) -> Vec<String> {
    let mut found = Vec::new();
    let mut rest = rest.trim_start_matches([' ', '\t']);
    while !rest.is_empty() {
        let (word, after) = match rest.strip_prefix('"') {
            Some(inside) => inside.split_once('"').unwrap_or((inside, "")),
            None => {
                let end = rest.find([' ', '\t', '=']).unwrap_or(rest.len());
                (&rest[..end], &rest[end..])
            }
        };
        found.push(word.to_owned());
        rest = after.trim_start_matches([' ', '\t']);
        rest = rest.strip_prefix('=').unwrap_or(rest).trim_start_matches([' ', '\t']);
    }
    found
}
