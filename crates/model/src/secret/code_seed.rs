//! Seeds of one-time codes (RFC 4226, RFC 6238).

use super::Secret;
use std::hash::{BuildHasher, RandomState};
use std::sync::LazyLock;
use zeroize::Zeroizing;

/// Seeds of the test values of the standards, which are the digits from 1 on, again and again; and of much copied examples.
const PUBLISHED: [(&[u8], &str); 4] = [
    (b"12345678901234567890", "RFC 4226, Appendix D"),
    (b"12345678901234567890123456789012", "RFC 6238, Appendix B"),
    (b"1234567890123456789012345678901234567890123456789012345678901234", "RFC 6238, Appendix B"),
    (b"Hello!\xde\xad\xbe\xef", "Key URI format, examples"),
];

static DIGESTS: LazyLock<RandomState> = LazyLock::new(RandomState::new);

impl Secret {
    /// Where the seed is published, if it is; a seed of one repeated byte is a placeholder of manuals.
    #[must_use]
    pub fn published_code_seed(&self) -> Option<&'static str> {
        let bytes = self.code_seed();
        let known = PUBLISHED.iter().find(|(seed, _)| *seed == bytes.as_slice()).map(|(_, source)| *source);
        let repeated = bytes.first().is_some_and(|first| bytes.iter().all(|byte| byte == first));
        known.or(repeated.then_some("one byte, repeated"))
    }

    /// Length of the seed in bits.
    #[must_use]
    pub fn code_seed_bits(&self) -> usize {
        self.code_seed().len() * 8
    }

    /// A number that equal seeds have in common, in whatever form they are written; another in every run.
    #[must_use]
    pub fn code_seed_digest(&self) -> u64 {
        DIGESTS.hash_one(self.code_seed().as_slice())
    }

    /// The bytes behind hexadecimal digits (pam_oath) or Base32 (RFC 4648, 6; key URIs). Text in neither form counts as it is.
    fn code_seed(&self) -> Zeroizing<Vec<u8>> {
        let text = self.expose();
        let hex = || {
            let digits = text.bytes().map(|byte| char::from(byte).to_digit(16).map(|digit| digit as u8));
            let digits: Zeroizing<Vec<u8>> = Zeroizing::new(digits.collect::<Option<_>>()?);
            digits
                .len()
                .is_multiple_of(2)
                .then(|| digits.chunks(2).map(|pair| pair[0] << 4 | pair[1]).collect())
        };
        Zeroizing::new(hex().or_else(|| base32(text)).unwrap_or_else(|| text.as_bytes().to_vec()))
    }
}

/// Bytes from Base32, the padding left out.
fn base32(text: &str) -> Option<Vec<u8>> {
    let (mut bytes, mut bits, mut count) = (Vec::new(), 0_u32, 0);
    for byte in text.trim_end_matches('=').bytes() {
        let value = match byte {
            b'A'..=b'Z' => byte - b'A',
            b'2'..=b'7' => byte - b'2' + 26,
            _ => return None,
        };
        bits = bits << 5 | u32::from(value);
        count += 5;
        if count >= 8 {
            count -= 8;
            bytes.push((bits >> count & 0xff) as u8);
        }
    }
    Some(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn seeds_in_either_form() {
        for (text, published, bits) in [
            ("3132333435363738393031323334353637383930", true, 160),
            ("GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ", true, 160),
            ("JBSWY3DPEHPK3PXP", true, 80),
            ("00000000000000000000000000000000", true, 128),
            ("00a1b2c3d4e5f60718293a4b5c6d7e8f90a1b2c3", false, 160),
            ("MFRGGZDFMZTWQ2LK", false, 80),
        ] {
            let seed = Secret::new(text);
            assert_eq!(
                (seed.published_code_seed().is_some(), seed.code_seed_bits()),
                (published, bits),
                "{text}"
            );
        }
        let pair = [
            Secret::new("3132333435363738393031323334353637383930"),
            Secret::new("GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"),
        ];
        assert_eq!(pair[0].code_seed_digest(), pair[1].code_seed_digest());
    }
}
