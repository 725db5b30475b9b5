//! Forms of archives and of compression, by how they begin.

/// A form of archive, or of compression.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Form {
    Zip,
    Tar,
    Gzip,
    Xz,
    Zstd,
}

/// Magic numbers of a frame, and of a skippable frame, whose last four bits are arbitrary.
pub(super) const FRAME: [u8; 4] = *b"\x28\xb5\x2f\xfd";

/// Whether a frame begins that is to be skipped.
pub(super) fn is_skipped(bytes: &[u8]) -> bool {
    matches!(bytes, [0x50..=0x5f, 0x2a, 0x4d, 0x18, ..])
}

impl Form {
    /// By the first bytes (APPNOTE of ZIP 4.3.7; POSIX.1-2017, pax; RFC 1952, 2.3.1; the .xz format 2.1.1.1; RFC 8878, 3.1.1).
    pub(super) fn of(bytes: &[u8]) -> Option<Self> {
        let begins = |magic: &[u8]| bytes.starts_with(magic);
        if begins(b"PK\x03\x04") || begins(b"PK\x05\x06") {
            Some(Self::Zip)
        } else if begins(b"\x1f\x8b") {
            Some(Self::Gzip)
        } else if begins(b"\xfd7zXZ\0") {
            Some(Self::Xz)
        } else if begins(&FRAME) || is_skipped(bytes) {
            Some(Self::Zstd)
        } else if bytes.get(257..262) == Some(b"ustar") || is_old_header(bytes) {
            Some(Self::Tar)
        } else {
            None
        }
    }
}

/// Whether bytes begin as a tar of before POSIX did, which has no mark but the sum of its header.
fn is_old_header(bytes: &[u8]) -> bool {
    let Some(header) = bytes.get(..512) else { return false };
    let digits = header[148..156].split(|byte| matches!(byte, 0 | b' ')).find(|part| !part.is_empty());
    let stated = digits
        .and_then(|digits| std::str::from_utf8(digits).ok())
        .and_then(|digits| u32::from_str_radix(digits, 8).ok());
    // The sum counts itself as blanks.
    let sum: u32 = header[..148].iter().chain(&header[156..]).map(|byte| u32::from(*byte)).sum();
    stated == Some(sum + 8 * u32::from(b' '))
}
