//! Values that may be secrets, and ordinary values.

use super::words::WORDS;

/// Whether a value may be a secret where its name announces one: not a choice of the setting, not a file, not a reference to another value.
pub(super) fn may_be_secret(value: &str) -> bool {
    let value = value.trim();
    let lower = value.to_ascii_lowercase();
    value.chars().count() >= 3
        && !WORDS.ordinary.contains(&lower)
        && !WORDS.words.contains(&lower)
        && !stands_for_another(value)
        && !is_path(&lower)
        && !is_small_number(value)
        && value != trevlin_model::secret::MASK
        && !value.chars().all(|one| one.is_ascii_punctuation())
        && !is_network_value(value)
}

/// Whether it looks like a secret, where its name is not conclusive.
pub(super) fn looks_secret(value: &str) -> bool {
    may_be_secret(value)
        && !value.contains(char::is_whitespace)
        && value.len() >= 8
        && (is_odd(value) || is_random(value))
}

/// Whether the value is too unusual to occur by chance, so that it is a secret wherever it occurs.
pub(super) fn is_told_apart(value: &str) -> bool {
    let has = |test: fn(char) -> bool| value.contains(test);
    let kinds = [has(|one| one.is_ascii_digit()), has(char::is_uppercase), has(char::is_lowercase)];
    let other = has(|one| one.is_ascii_punctuation() && !matches!(one, '-' | '_' | '.' | ',' | '/' | ':'));
    let kinds = kinds.into_iter().filter(|one| *one).count() + usize::from(other);
    value.len() >= 8 && kinds >= 2 && !value.contains('\n') && !is_network_value(value)
}

/// Whether it is no word of a language: letters of two cases in the middle, digits and letters, or signs within it.
pub(super) fn is_odd(value: &str) -> bool {
    let has = |test: fn(char) -> bool| value.contains(test);
    let digits = has(|one| one.is_ascii_digit());
    let letters = has(char::is_alphabetic);
    let inner = value.chars().skip(1).any(char::is_uppercase) && has(char::is_lowercase);
    let signs = has(|one| matches!(one, '!' | '$' | '^' | '~' | '+' | '=' | '@' | '%' | '&' | '*'));
    value.chars().count() >= 5
        && ((digits && letters) || inner || (signs && letters))
        && !is_network_value(value)
}

/// Whether a program made it: long, and of several kinds of letters.
fn is_random(value: &str) -> bool {
    let count = |test: fn(&char) -> bool| value.chars().filter(test).count();
    let (digits, upper, lower) =
        (count(char::is_ascii_digit), count(char::is_ascii_uppercase), count(char::is_ascii_lowercase));
    value.len() >= 16 && [digits, upper, lower].iter().filter(|one| **one >= 2).count() >= 2
}

/// Whether it is a variable, a placeholder or a reference to another value.
fn stands_for_another(value: &str) -> bool {
    let hash = value.starts_with('$') && value[1..].contains('$');
    (value.starts_with('$')
        && !hash
        && value[1..].starts_with(|one: char| one.is_alphabetic() || matches!(one, '{' | '(' | '_')))
        || value.starts_with("%{")
        || value.starts_with("{{")
        || (value.starts_with('%') && value.len() <= 3)
        || value.starts_with("$p$")
        || (value.starts_with('{') && value.ends_with('}'))
        || (value.starts_with('<') && value.ends_with('>'))
        || ["file:", "env:", "exec:", "include:", "/dev/"].iter().any(|sign| value.starts_with(sign))
        || value.starts_with("--")
}

/// Whether it names a file.
fn is_path(lower: &str) -> bool {
    let named = lower.starts_with('/') && !lower.ends_with('=')
        || ["./", "../", "~/", "\"/"].iter().any(|sign| lower.starts_with(sign))
        || lower.contains("://") && !lower.contains('@');
    named
        || (!lower.contains(char::is_whitespace)
            && WORDS.file_endings.iter().any(|ending| lower.ends_with(ending.as_str())))
}

/// Whether it is a number of few digits, as a length, an age or a key's number is.
fn is_small_number(value: &str) -> bool {
    value.len() < 4 && value.bytes().all(|byte| byte.is_ascii_digit())
}

/// Whether it is an address, a network, a port with an address, a pair of numbers.
fn is_network_value(value: &str) -> bool {
    let host = value.split(['/', '%']).next().unwrap_or_default();
    let without_port = host.rsplit_once(':').map_or(host, |(host, _)| host);
    let numbers = value.contains(['.', ':', '-', 's', 'm', 'h', 'd'])
        && value.starts_with(|one: char| one.is_ascii_digit())
        && value
            .chars()
            .all(|one| one.is_ascii_digit() || matches!(one, '.' | ':' | '-' | 's' | 'm' | 'h' | 'd'));
    host.parse::<std::net::IpAddr>().is_ok() || without_port.parse::<std::net::Ipv4Addr>().is_ok() || numbers
}
