//! Secrets recognised by their shape: logins in URLs, credentials in headers, hashes, key blocks.

use std::ops::Range;

/// Schemes of crypt(5) and of those who write hashes like it.
const CRYPT: [&str; 23] = [
    "1",
    "2",
    "2a",
    "2b",
    "2x",
    "2y",
    "3",
    "5",
    "6",
    "7",
    "y",
    "gy",
    "md5",
    "sha1",
    "apr1",
    "argon2i",
    "argon2d",
    "argon2id",
    "scrypt",
    "pbkdf2",
    "pbkdf2-sha256",
    "pbkdf2-sha512",
    "PBKDF2",
];

/// Schemes in braces (RFC 2307, 5.3), in small letters.
const BRACED: [&str; 16] = [
    "{sha}",
    "{ssha}",
    "{sha256}",
    "{ssha256}",
    "{sha512}",
    "{ssha512}",
    "{md5}",
    "{smd5}",
    "{crypt}",
    "{sha224}",
    "{ssha224}",
    "{sha384}",
    "{ssha384}",
    "{pbkdf2}",
    "{argon2}",
    "{x-nthash}",
];

/// Positions of such secrets in a line.
pub(super) fn places(line: &str) -> Vec<Range<usize>> {
    let mut found = Vec::new();
    found.extend(logins(line));
    found.extend(credentials(line));
    found.extend(hashes(line));
    found
}

/// The secret of a login in a URL: after the colon, or all of it where it has none and looks like a token.
fn logins(line: &str) -> impl Iterator<Item = Range<usize>> {
    line.match_indices("://").filter_map(|(at, sign)| {
        let start = at + sign.len();
        let ends = |one: char| {
            one.is_whitespace() || matches!(one, '"' | '\'' | '<' | '>' | '`' | '/' | '?' | '#' | '|')
        };
        // A password may contain an unencoded slash: an `@` before the next blank decides.
        let word_end = line[start..]
            .find(|one: char| one.is_whitespace() || matches!(one, '"' | '\'' | '<' | '>' | '`'));
        let word = &line[start..word_end.map_or(line.len(), |end| start + end)];
        let authority = word.find(ends).map_or(word, |end| &word[..end]);
        let login = authority.rfind('@').or_else(|| {
            let last = word.rfind('@')?;
            let port = word.split_once(':')?.1.split('/').next()?;
            (!port.is_empty() && !port.bytes().all(|byte| byte.is_ascii_digit())).then_some(last)
        })?;
        let login = &word[..login];
        match login.split_once(':') {
            Some((user, password)) if !password.is_empty() && !password.starts_with("//") => {
                let from = start + user.len() + 1;
                let variable = password.starts_with(['$', '%', '<', '{']) && !password.starts_with("%2");
                (!variable || password.starts_with("$") && password.len() > 12)
                    .then_some(from..start + login.len())
            }
            None if login.len() >= 16 && login.contains(|one: char| one.is_ascii_digit()) => {
                Some(start..start + login.len())
            }
            _ => None,
        }
    })
}

/// The text after `Basic` and `Bearer` (RFC 7617, RFC 6750).
fn credentials(line: &str) -> Vec<Range<usize>> {
    let mut found = Vec::new();
    let lower = line.to_ascii_lowercase();
    for scheme in ["basic ", "bearer "] {
        for (at, _) in lower.match_indices(scheme) {
            let start = at + scheme.len();
            let begins = !line[..at].ends_with(|one: char| one.is_alphanumeric() || matches!(one, '_' | '-'));
            let token = |one: char| {
                one.is_ascii_alphanumeric() || matches!(one, '-' | '.' | '_' | '~' | '+' | '/' | '=')
            };
            let length = line[start..].find(|one: char| !token(one)).unwrap_or(line.len() - start);
            let value = &line[start..start + length];
            let inner = value.chars().skip(1).any(|one| one.is_ascii_uppercase());
            let mixed = inner || value.contains(|one: char| one.is_ascii_digit() || one == '=');
            if begins && length >= 8 && mixed {
                found.push(start..start + length);
            }
        }
    }
    found
}

/// Hashes of passwords.
fn hashes(line: &str) -> Vec<Range<usize>> {
    let mut found = Vec::new();
    let mut at = 0;
    while let Some(sign) = line[at..].find('$') {
        let start = at + sign;
        at = start + 1;
        let Some((scheme, rest)) = line[at..].split_once('$') else { break };
        if !CRYPT.contains(&scheme) {
            continue;
        }
        let digest = |one: char| {
            one.is_ascii_alphanumeric() || matches!(one, '$' | '.' | '/' | '+' | '=' | ',' | '-' | '_')
        };
        let length = rest.find(|one: char| !digest(one)).unwrap_or(rest.len());
        let value = &rest[..length];
        let separated = value.contains('$') || value.len() >= 22;
        let mixed = value.contains(|one: char| one.is_ascii_digit() || one.is_ascii_uppercase());
        if length >= 8 && separated && mixed {
            let end = at + scheme.len() + 1 + length;
            found.push(start..end);
            at = end;
        }
    }
    let lower = line.to_ascii_lowercase();
    for scheme in BRACED {
        for (start, _) in lower.match_indices(scheme) {
            let from = start + scheme.len();
            let digest =
                |one: char| one.is_ascii_alphanumeric() || matches!(one, '+' | '/' | '=' | '$' | '.');
            let length = line[from..].find(|one: char| !digest(one)).unwrap_or(line.len() - from);
            if length >= 8 {
                found.push(start..from + length);
            }
        }
    }
    for (start, _) in lower.match_indices("scram-sha-") {
        let rest = &line[start..];
        let end =
            rest.find(|one: char| one.is_whitespace() || matches!(one, '"' | '\'')).unwrap_or(rest.len());
        if rest[..end].contains('$') && rest[..end].len() > 40 {
            found.push(start..start + end);
        }
    }
    found
}

/// The lines between the frame of a private key or of a static key that begins on this line.
pub(super) fn key_block(text: &str, line: Range<usize>) -> Option<Range<usize>> {
    let first = text[line.clone()].find("-----BEGIN ")?;
    let name = text[line.start + first + 11..line.end].split("-----").next()?;
    let secret = name.ends_with("PRIVATE KEY")
        || name.contains("Static key")
        || name.ends_with("tls-crypt-v2 client key")
        || name.ends_with("tls-crypt-v2 server key");
    if !secret {
        return None;
    }
    let from = line.start + first + 11 + name.len();
    let start = from + text[from..].find("-----").map_or(0, |frame| frame + 5);
    // The next frame closes it, or belongs to another block.
    let end = match text[start..].find("-----") {
        Some(end) if text[start + end..].starts_with("-----END ") => start + end,
        _ => unclosed(text, start),
    };
    (start < end).then_some(start..end)
}

/// The end of an unclosed block: the first line that does not belong to it.
fn unclosed(text: &str, from: usize) -> usize {
    let mut at = text[from..].find('\n').map_or(text.len(), |end| from + end + 1);
    for line in text[at..].split_inclusive('\n') {
        let inner = line.trim();
        let header = inner.contains(": ");
        if !header
            && !inner.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'+' | b'/' | b'='))
        {
            break;
        }
        at += line.len();
    }
    at
}

/// The lines of a block, each on its own and without the surrounding text. In one line with `\n` written out, they are one.
pub(super) fn lines_of(text: &str, block: Range<usize>) -> Vec<Range<usize>> {
    let mut at = block.start;
    let mut found = Vec::new();
    for line in text[block].split_inclusive('\n') {
        let inner =
            line.trim_matches(|one: char| one.is_whitespace() || matches!(one, '#' | '"' | '\'' | ',' | ';'));
        let header = inner.contains(": ");
        if inner.len() >= 4 && !header {
            let start = at + line.find(inner).unwrap_or_default();
            found.push(start..start + inner.len());
        }
        at += line.len();
    }
    found
}
