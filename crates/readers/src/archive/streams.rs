//! Streams of compressed bytes, each read to its end: compressed files may be joined, and what follows the first must not be lost.

use super::form::{FRAME, Form, is_skipped};
use std::io::{self, Cursor, Read};
use trevlin_model::{Limit, Limits, size};
use zeroize::Zeroizing;

/// Why something was not taken.
pub(super) enum Refused {
    /// Larger than a file may be.
    Larger,
    /// It grows as nothing does that was packed to be sent.
    Ratio,
    /// The archive holds more than may come out of one.
    Total,
    /// It breaks off, or is damaged.
    Broken(String),
}

impl Refused {
    pub(super) fn words(&self, limits: &Limits) -> String {
        match self {
            Self::Larger => format!(
                "larger than {}, the limit for a configuration; {}",
                size(limits.get(Limit::FileBytes)),
                Limit::FileBytes.remedy()
            ),
            Self::Ratio => format!(
                "it unpacks to more than {} times its size, as an archive built to exhaust memory does; {}",
                limits.get(Limit::ArchiveRatio),
                Limit::ArchiveRatio.remedy()
            ),
            Self::Total => format!(
                "the archive holds more than {}; {}",
                size(limits.get(Limit::ArchiveBytes)),
                Limit::ArchiveBytes.remedy()
            ),
            Self::Broken(why) => format!("it cannot be unpacked ({why}); please export it again"),
        }
    }
}

/// Remaining bytes of output, and the limit that applies beyond.
#[derive(Clone, Copy)]
pub(super) struct Room {
    pub(super) bytes: u64,
    pub(super) by_ratio: bool,
}

/// Content of a stream: all of it, or the part before an error.
pub(super) struct Stream {
    pub(super) bytes: Zeroizing<Vec<u8>>,
    pub(super) refused: Option<Refused>,
}

/// A whole stream, within the limit. Only a nested archive may be longer than a file. `declared`: its stated length, if any, so that an
/// oversized stream is not read.
pub(super) fn limited(mut reader: impl Read, declared: Option<u64>, room: Room, limits: &Limits) -> Stream {
    let mut bytes = Zeroizing::new(Vec::new());
    let refused = fill(&mut reader, &mut bytes, declared, room, limits).err();
    Stream { bytes, refused }
}

/// Enough of a file to tell whether it is an archive.
const BEGINNING: u64 = 1024;

fn fill(
    reader: &mut dyn Read,
    bytes: &mut Vec<u8>,
    declared: Option<u64>,
    room: Room,
    limits: &Limits,
) -> Result<(), Refused> {
    let too_long = || if room.by_ratio { Refused::Ratio } else { Refused::Total };
    // Reads on to the one byte that is too much; whether there is one.
    let mut read = |bytes: &mut Vec<u8>, most: u64| -> Result<bool, Refused> {
        let left = (most + 1).saturating_sub(bytes.len() as u64);
        io::copy(&mut reader.take(left), bytes).map_err(|error| Refused::Broken(error.to_string()))?;
        Ok(bytes.len() as u64 > most)
    };
    if !read(bytes, BEGINNING.min(room.bytes))? {
        return Ok(());
    }
    let largest = if Form::of(bytes).is_some() { u64::MAX } else { limits.get(Limit::FileBytes) };
    if declared.is_some_and(|declared| declared > largest) {
        return Err(Refused::Larger);
    }
    if !read(bytes, room.bytes.min(largest))? {
        return Ok(());
    }
    Err(if room.bytes <= largest { too_long() } else { Refused::Larger })
}

type Frame<'a> = ruzstd::decoding::StreamingDecoder<Cursor<&'a [u8]>, ruzstd::decoding::FrameDecoder>;

/// Frames of Zstandard one after the other, and frames to be skipped (RFC 8878, 3.1).
pub(super) struct Frames<'a> {
    rest: &'a [u8],
    frame: Option<Box<Frame<'a>>>,
}

impl<'a> Frames<'a> {
    pub(super) fn of(bytes: &'a [u8]) -> Self {
        Self { rest: bytes, frame: None }
    }

    /// The next frame with something in it, if there is one.
    fn next(&mut self) -> io::Result<bool> {
        let broken = |why: &str| io::Error::new(io::ErrorKind::InvalidData, why.to_owned());
        while is_skipped(self.rest) {
            let length = self.rest.get(4..8).and_then(|four| four.try_into().ok()).map(u32::from_le_bytes);
            let next = length.and_then(|length| self.rest.get(8 + usize::try_from(length).ok()?..));
            self.rest = next.ok_or_else(|| broken("it is truncated within a skippable frame"))?;
        }
        if self.rest.is_empty() {
            return Ok(false);
        }
        if !self.rest.starts_with(&FRAME) {
            return Err(broken("what follows a frame is not a frame"));
        }
        let frame = ruzstd::decoding::StreamingDecoder::new(Cursor::new(self.rest));
        self.frame = Some(Box::new(frame.map_err(|error| broken(&error.to_string()))?));
        Ok(true)
    }
}

impl Read for Frames<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        if into.is_empty() {
            return Ok(0);
        }
        loop {
            if let Some(frame) = &mut self.frame {
                let count = frame.read(into)?;
                if count > 0 {
                    return Ok(count);
                }
                let read = usize::try_from(frame.get_ref().position()).unwrap_or(usize::MAX);
                self.rest = self.rest.get(read..).unwrap_or_default();
                self.frame = None;
            }
            if !self.next()? {
                return Ok(0);
            }
        }
    }
}
