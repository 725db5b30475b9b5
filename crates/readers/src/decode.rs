//! Bytes of a file to text.

use encoding_rs::{UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};

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

/// Decodes UTF-8, UTF-16 with a byte order mark, or else Latin-1 as its superset Windows-1252. The mark is dropped.
/// NUL bytes at the end, as some consoles append them, are dropped too.
///
/// # Errors
/// When the bytes are no text.
pub fn decode(bytes: &[u8]) -> Result<String, DecodeError> {
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
    let control = |byte: &u8| *byte < 0x20 && !matches!(byte, b'\t' | b'\n' | b'\r' | 0x0c | 0x1b);
    if memchr::memchr(0, bytes).is_some()
        || bytes.iter().filter(|byte| control(byte)).count() * 20 > bytes.len()
    {
        return Err(DecodeError::Binary);
    }
    let (text, broken) = UTF_8.decode_with_bom_removal(bytes);
    if !broken {
        return Ok(text.into_owned());
    }
    let mut text = WINDOWS_1252.decode_without_bom_handling(bytes).0.into_owned();
    // What it is decoded into has room for letters of three bytes each.
    text.shrink_to_fit();
    Ok(text)
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
        }
    }
}
