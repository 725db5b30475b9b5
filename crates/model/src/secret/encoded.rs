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

impl Secret {
    /// The public key that belongs to it, in Base64, where it is written like a private key of WireGuard: 32 bytes in Base64
    /// (wg(8), genkey and pubkey; RFC 7748, 5).
    #[must_use]
    pub fn wireguard_public_key(&self) -> Option<String> {
        let text = self.expose().trim();
        if text.len() != 44 {
            return None;
        }
        let engine = &base64::engine::general_purpose::STANDARD;
        let bytes = Zeroizing::new(engine.decode(text).ok()?);
        let key: Zeroizing<[u8; 32]> = Zeroizing::new(bytes.as_slice().try_into().ok()?);
        Some(engine.encode(x25519_dalek::x25519(*key, x25519_dalek::X25519_BASEPOINT_BYTES)))
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
    fn the_public_key_of_a_private_one() {
        // The first key of RFC 7748, 6.1.
        let private = "dwdtCnMYpX08FsFyUbJmRd9ML4frwJkqsXf7pR25LCo=";
        let public = "hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTmo=";
        assert_eq!(Secret::new(private).wireguard_public_key().as_deref(), Some(public));
        for text in ["", "sesame", "S0Secret=", &"A".repeat(44)] {
            assert_eq!(Secret::new(text).wireguard_public_key(), None, "{text}");
        }
    }

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
