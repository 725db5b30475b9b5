//! Files that are not text: their type, so that the right file can be requested.

/// The type of a file that cannot be read: encrypted, or a container, so that the right file can be requested.
#[must_use]
pub fn sealed(bytes: &[u8]) -> Option<&'static str> {
    let begins = |magic: &[u8]| bytes.starts_with(magic);
    let known: [(&[u8], &str); 11] = [
        (b"Salted__", "encrypted (openssl enc)"),
        (b"age-encryption.org/", "encrypted (age)"),
        (b"-----BEGIN PGP MESSAGE-----", "encrypted (OpenPGP)"),
        (b"-----BEGIN AGE ENCRYPTED FILE-----", "encrypted (age)"),
        (b"LUKS\xba\xbe", "an encrypted disk"),
        (b"7z\xbc\xaf\x27\x1c", "a 7z archive"),
        (b"Rar!\x1a\x07", "a rar archive"),
        (b"BZh", "packed with bzip2"),
        (b"\x04\x22\x4d\x18", "packed with lz4"),
        (b"MSCF\0\0\0\0", "a cabinet archive"),
        (b"SQLite format 3\0", "a database"),
    ];
    known.iter().find(|(magic, _)| begins(magic)).map(|(_, what)| *what)
}

/// The likely type of bytes that are not text: with all byte values about equally frequent they are encrypted or compressed.
#[must_use]
pub fn scrambled(bytes: &[u8]) -> Option<&'static str> {
    let sample = bytes.get(..bytes.len().min(64 << 10))?;
    if sample.len() < 1024 {
        return None;
    }
    let mut counts = [0u32; 256];
    sample.iter().for_each(|byte| counts[usize::from(*byte)] += 1);
    let total = sample.len() as f64;
    let entropy: f64 = counts
        .iter()
        .filter(|count| **count > 0)
        .map(|count| f64::from(*count) / total)
        .map(|share| -share * share.log2())
        .sum();
    (entropy > 7.8).then_some("encrypted or in a proprietary format")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_sealed() {
        let noise: Vec<u8> =
            trevlin_model::secret::ScrubKey::new([7; 32]).bytes("noise", b"").take(4096).collect();
        for (bytes, wanted) in [
            (&b"Salted__abcdef"[..], Some("openssl")),
            (b"-----BEGIN PGP MESSAGE-----\n", Some("OpenPGP")),
            (b"BZh91AY&SY", Some("bzip2")),
            (&noise, Some("encrypted or in a proprietary format")),
            (b"plain text", None),
            (&[0; 4096], None),
        ] {
            let told = sealed(bytes).or_else(|| scrambled(bytes));
            assert_eq!(told.is_some(), wanted.is_some());
            assert!(told.unwrap_or_default().contains(wanted.unwrap_or_default()));
        }
    }
}
