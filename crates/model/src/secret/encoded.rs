//! Secrets that are written in an encoding.

use super::Secret;
use base64::Engine;
use zeroize::Zeroizing;

impl Secret {
    /// The secret behind `0x…` (hexadecimal) and `0s…` (Base64), as ipsec.secrets(5) and strongSwan's other files write them; any other
    /// text is literal.
    #[must_use]
    pub fn from_prefixed(text: &str) -> Self {
        let bytes = match text.get(..2) {
            Some("0x" | "0X") => hex(&text[2..]),
            Some("0s" | "0S") => base64::engine::general_purpose::STANDARD.decode(&text[2..]).ok(),
            _ => None,
        };
        match bytes {
            Some(bytes) if !bytes.is_empty() => from_bytes(Zeroizing::new(bytes)),
            _ => Self::new(text),
        }
    }
}

/// Bytes as a secret: as text where they are valid text, otherwise one character for each byte.
fn from_bytes(bytes: Zeroizing<Vec<u8>>) -> Secret {
    match std::str::from_utf8(&bytes) {
        Ok(text) => Secret::new(text),
        Err(_) => Secret::new(bytes.iter().map(|byte| char::from(*byte)).collect::<String>()),
    }
}

/// Bytes from pairs of hexadecimal digits, optionally separated by underscores.
fn hex(text: &str) -> Option<Vec<u8>> {
    let digits: Zeroizing<Vec<u8>> = Zeroizing::new(
        text.chars()
            .filter(|letter| *letter != '_')
            .map(|letter| letter.to_digit(16))
            .map(|digit| digit.map(|digit| digit as u8))
            .collect::<Option<_>>()?,
    );
    // An odd digit in front stands for a byte of its own.
    let lone = digits.len() % 2;
    let pairs = digits[lone..].chunks(2).map(|pair| pair[0] << 4 | pair[1]);
    Some(digits[..lone].iter().copied().chain(pairs).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_behind_an_encoding() {
        for (text, plain) in [
            ("sesame", "sesame"),
            ("0x736573616d65", "sesame"),
            ("0X7365_7361_6D65", "sesame"),
            ("0sc2VzYW1l", "sesame"),
            ("0snot base64", "0snot base64"),
            ("0xyz", "0xyz"),
            ("0x", "0x"),
            ("0xff00", "\u{ff}\u{0}"),
            ("0x1", "\u{1}"),
            ("", ""),
        ] {
            assert!(Secret::from_prefixed(text).same_as(&Secret::new(plain)), "{text}");
        }
    }
}
