//! Words of an nftables text.

use std::net::Ipv6Addr;

/// A piece of the text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Token<'a> {
    pub(super) kind: Kind,
    /// Text as written; a string without its quotes.
    pub(super) text: &'a str,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    Word,
    String,
    /// An operator, a brace, a comma.
    Sign,
    /// A line end or a semicolon.
    End,
    /// A remark behind `#`, without it.
    Remark,
    /// A word or a string of which signs were lost, or the end; it may have been any.
    Broken,
}

fn of_word(letter: char) -> bool {
    letter.is_alphanumeric() || "_./-*:+@$%\\?".contains(letter)
}

/// Splits a text. A quotation mark that is not closed ends with its line.
pub(super) fn split(text: &str) -> Vec<Token<'_>> {
    let mut tokens = Vec::new();
    let mut at = 0;
    while let Some(letter) = text[at..].chars().next() {
        let rest = &text[at..];
        let mut sign = |length: usize, kind| {
            tokens.push(Token { kind, text: &rest[..length] });
            length
        };
        at += match letter {
            '\n' | ';' => sign(1, Kind::End),
            '\\' if rest[1..].trim_start_matches([' ', '\t', '\r']).starts_with('\n') => {
                rest.find('\n').map_or(rest.len(), |end| end + 1)
            }
            '#' => {
                let end = rest.find('\n').unwrap_or(rest.len());
                tokens.push(Token { kind: Kind::Remark, text: rest[1..end].trim() });
                end
            }
            '"' | '\'' => {
                let inside = &rest[1..];
                let line = inside.find('\n').unwrap_or(inside.len());
                let closed = inside[..line].find(letter);
                let end = closed.unwrap_or(line);
                let text = &inside[..end];
                // Comments may be illegible.
                let said = tokens.last().is_some_and(|one| matches!(one.text, "comment" | "prefix"));
                let whole = closed.is_some() && (said || !text.contains(char::REPLACEMENT_CHARACTER));
                tokens.push(Token { kind: if whole { Kind::String } else { Kind::Broken }, text });
                (end + 1 + usize::from(closed.is_some())).min(rest.len())
            }
            '[' => {
                // An IPv6 address before a port.
                let end = rest.find([']', '\n']).unwrap_or(rest.len());
                tokens.push(Token { kind: Kind::Word, text: &rest[1..end] });
                end + usize::from(rest[end..].starts_with(']'))
            }
            '=' | '!' | '<' | '>' if rest[1..].starts_with('=') => sign(2, Kind::Sign),
            '<' | '>' if rest[1..].starts_with(letter) => sign(2, Kind::Sign),
            '{' | '}' | '(' | ')' | ',' | '=' | '!' | '<' | '>' | '&' | '|' | '^' => sign(1, Kind::Sign),
            letter if of_word(letter) => {
                let end = rest.find(|letter| !of_word(letter)).unwrap_or(rest.len());
                word(&rest[..end], &mut tokens);
                end
            }
            other if other.is_whitespace() || other == '\u{feff}' => other.len_utf8(),
            // Not part of the language: the parser reports it.
            other => sign(other.len_utf8(), Kind::Broken),
        };
    }
    tokens
}

/// A run of letters: a word, or words with colons between them. Colons belong to IPv6 and hardware addresses.
fn word<'a>(mut run: &'a str, tokens: &mut Vec<Token<'a>>) {
    let push = |tokens: &mut Vec<Token<'a>>, text: &'a str| {
        let kind = if matches!(text, "." | "-" | ":" | "/" | "+") { Kind::Sign } else { Kind::Word };
        tokens.push(Token { kind, text });
    };
    while !run.is_empty() {
        let (end, skip) = match run.find(':') {
            None => (run.len(), 0),
            Some(0) if !run.starts_with("::") => (0, 1),
            Some(colon) => {
                let bare = run.strip_suffix(':').filter(|bare| !bare.ends_with(':'));
                match bare {
                    _ if has_own_colons(run) => (run.len(), 0),
                    Some(bare) if has_own_colons(bare) => (bare.len(), 1),
                    _ => (colon, 1),
                }
            }
        };
        if end > 0 {
            push(tokens, &run[..end]);
        }
        if skip > 0 {
            push(tokens, &run[end..=end]);
        }
        run = &run[end + skip..];
    }
}

/// Whether a word is an address with colons in it, with a prefix length or a range of them perhaps.
fn has_own_colons(word: &str) -> bool {
    let v6 = |text: &str| text.parse::<Ipv6Addr>().is_ok();
    let hardware = |text: &str| {
        let parts: Vec<&str> = text.split(':').collect();
        parts.len() == 6
            && parts.iter().all(|part| part.len() == 2 && part.bytes().all(|b| b.is_ascii_hexdigit()))
    };
    let plain = word.split_once('/').map_or(word, |(base, _)| base);
    v6(plain) || hardware(word) || word.split_once('-').is_some_and(|(first, last)| v6(first) && v6(last))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_and_colons() {
        for (text, wanted) in [
            ("tcp dport 22 accept", "tcp|dport|22|accept"),
            ("22:accept", "22|:|accept"),
            ("22 : accept", "22|:|accept"),
            ("dnat to 10.0.0.1:80", "dnat|to|10.0.0.1|:|80"),
            ("dnat to [2001:db8::1]:80", "dnat|to|2001:db8::1|:|80"),
            ("2001:db8::1: drop", "2001:db8::1|:|drop"),
            ("ip6 saddr 2001:db8::/32", "ip6|saddr|2001:db8::/32"),
            ("::/0", "::/0"),
            ("to :8080", "to|:|8080"),
            ("2001:db8::1-2001:db8::9", "2001:db8::1-2001:db8::9"),
            ("ether saddr 02:00:5e:00:53:01", "ether|saddr|02:00:5e:00:53:01"),
            ("ip saddr . tcp dport", "ip|saddr|.|tcp|dport"),
            ("a != b", "a|!=|b"),
            ("\"x y\" z", "x y|z"),
            ("a \\\n b", "a|b"),
            ("flags & (fin|syn)", "flags|&|(|fin|||syn|)"),
            ("eth0.5 \"wlan*\"", "eth0.5|wlan*"),
            ("a # b c", "a|b c"),
        ] {
            let found: Vec<_> = split(text).into_iter().map(|token| token.text).collect();
            assert_eq!(found.join("|"), wanted, "{text}");
        }
    }
}
