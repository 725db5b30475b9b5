//! Bytes of a file to text.

use encoding_rs::{UTF_16BE, UTF_16LE, WINDOWS_1252};
use zeroize::Zeroizing;

/// Why bytes are not text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DecodeError {
    /// NUL bytes or too many control characters: not a text file.
    Binary,
}

impl std::fmt::Display for DecodeError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("a binary file, where a text export was expected")
    }
}

impl std::error::Error for DecodeError {}

/// Decodes UTF-8, UTF-16 with a byte order mark, or else Latin-1 as its superset Windows-1252. The mark is dropped, and so are NUL bytes at
/// the end, which some consoles append.
///
/// # Errors
/// When the bytes are no text.
pub fn decode(bytes: &[u8]) -> Result<String, DecodeError> {
    decode_whole(&mut Zeroizing::new(bytes.to_vec()))
}

/// The same for bytes that are no longer needed. Where they are the text itself, as most are, they are reused and nothing of them remains;
/// otherwise they are kept.
///
/// # Errors
/// When the bytes are no text.
pub fn decode_whole(all: &mut Vec<u8>) -> Result<String, DecodeError> {
    let bytes = all.as_slice();
    for encoding in [UTF_16LE, UTF_16BE] {
        let mark: &[u8] = if encoding == UTF_16LE { b"\xff\xfe" } else { b"\xfe\xff" };
        if bytes.starts_with(mark) {
            let (text, broken) = encoding.decode_with_bom_removal(bytes);
            return if broken || text.contains('\0') {
                Err(DecodeError::Binary)
            } else {
                Ok(text.into_owned())
            };
        }
    }
    let end = bytes.iter().rposition(|byte| *byte != 0).map_or(0, |at| at + 1);
    let bytes = &bytes[..end];
    // Escape sequences of a recorded terminal session are fine; a file full of control bytes is no text.
    if memchr::memchr(0, bytes).is_some() || control_bytes(bytes) * 20 > bytes.len() {
        return Err(DecodeError::Binary);
    }
    if !bytes.starts_with(MARK_UTF_8) {
        all.truncate(end);
        match String::from_utf8(std::mem::take(all)) {
            Ok(text) => return Ok(text),
            Err(error) => *all = error.into_bytes(),
        }
    } else if let Ok(text) = std::str::from_utf8(&bytes[MARK_UTF_8.len()..]) {
        return Ok(text.to_owned());
    }
    let bytes = all.as_slice();
    let mut text = WINDOWS_1252.decode_without_bom_handling(bytes).0.into_owned();
    // The decoded text may need three bytes per letter.
    text.shrink_to_fit();
    Ok(text)
}

const MARK_UTF_8: &[u8] = b"\xef\xbb\xbf";

/// How many bytes are control characters that texts do not have.
fn control_bytes(bytes: &[u8]) -> usize {
    const EACH: u64 = u64::MAX / 0xff;
    let control = |byte: &&u8| **byte < 0x20 && !matches!(byte, b'\t' | b'\n' | b'\r' | 0x0c | 0x1b);
    let (words, rest) = bytes.as_chunks();
    let of_words = words.iter().filter(|word| {
        // Whether any of the eight is below 0x20: it alone takes from the highest bit of its place, or those above it do.
        let word = u64::from_ne_bytes(**word);
        word.wrapping_sub(EACH * 0x20) & !word & (EACH * 0x80) != 0
    });
    of_words.flatten().chain(rest).filter(control).count()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_as_they_come() {
        for (bytes, text) in [
            (&b"port 1194\r\n"[..], Ok("port 1194\r\n")),
            (b"\xef\xbb\xbfport 1194", Ok("port 1194")),
            (b"\xff\xfep\0o\0r\0t\0", Ok("port")),
            (b"\xfe\xff\0p\0o\0r\0t", Ok("port")),
            (b"# f\xfcr", Ok("# für")),
            (b"port 1194\n\0\0\0", Ok("port 1194\n")),
            (b"\x7fELF\x02\x01\x01\0\0\0x", Err(DecodeError::Binary)),
            (b"\xff\xfe\0\0", Err(DecodeError::Binary)),
            (b"", Ok("")),
        ] {
            assert_eq!(decode(bytes).as_deref(), text.as_deref(), "{bytes:?}");
            let mut whole = bytes.to_vec();
            assert_eq!(decode_whole(&mut whole).as_deref(), text.as_deref(), "{bytes:?}");
        }
    }

    #[test]
    fn control_bytes_are_counted_wherever_they_lie() {
        let every: Vec<u8> = (0..=255).collect();
        // The same letters at every place of a word, and behind the last.
        for from in 0..9 {
            assert_eq!(control_bytes(&every[from..]), 32 - 5 - from, "from {from}");
        }
        for at in 0..19 {
            let mut text = [b'\xa0'; 19];
            text[at] = 1;
            assert_eq!(control_bytes(&text), 1, "at {at}");
            text[at] = b'\n';
            assert_eq!(control_bytes(&text), 0, "at {at}");
        }
    }
}
