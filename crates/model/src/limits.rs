//! Limits on how much input is read and how far it is followed: hostile or broken input reaches one of these, instead of exhausting memory
//! or running without end. Everything left out because of a limit is reported.

use std::fmt;

/// Something that is bounded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Limit {
    /// Bytes of one file.
    FileBytes,
    /// Bytes of all files of a run.
    TotalBytes,
    /// Files of a run.
    Files,
    /// Bytes of an archive, and of all that comes out of it.
    ArchiveBytes,
    /// How many times its size an archive may unpack to.
    ArchiveRatio,
    /// How many archives may lie in each other.
    ArchiveDepth,
    /// Bytes of one line.
    LineBytes,
    /// How deep blocks, sections and values are followed in each other.
    Nesting,
    /// How many files may read in each other. A daemon's own limit holds where it is lower.
    Includes,
    /// How many times its size a file may grow to by values that it names and puts in several places.
    Expansion,
    /// Rules of one packet filter.
    Rules,
    /// Nodes of a set diagram that one question about packets may cost.
    SetNodes,
}

/// Description of a limit.
#[derive(Debug)]
pub struct LimitRow {
    /// Which.
    pub limit: Limit,
    /// Its name, as the command takes it.
    pub name: &'static str,
    /// The bounded quantity, as a phrase, with its unit.
    pub what: &'static str,
    /// Whether it counts bytes.
    pub bytes: bool,
    /// Default value.
    pub default: u64,
    /// The least and the most that it can be set to.
    pub range: (u64, u64),
    /// Consequence for input beyond it.
    pub beyond: &'static str,
}

const ANY: u64 = u32::MAX as u64;

/// Every limit, in the order of [`Limit`].
pub const LIMITS: [LimitRow; 12] = [
    LimitRow {
        limit: Limit::FileBytes,
        name: "file-bytes",
        what: "bytes of one file",
        bytes: true,
        default: 64 << 20,
        // Places in a text are counted in 32 bits.
        range: (1, 2000 << 20),
        beyond: "the file is not read",
    },
    LimitRow {
        limit: Limit::TotalBytes,
        name: "total-bytes",
        what: "bytes of all files of a run",
        bytes: true,
        default: 4 << 30,
        range: (1, u64::MAX),
        beyond: "later files, in order of path, are not read",
    },
    LimitRow {
        limit: Limit::Files,
        name: "files",
        what: "files of a run",
        bytes: false,
        default: 500_000,
        range: (1, 50_000_000),
        beyond: "later files, in order of path, are not read",
    },
    LimitRow {
        limit: Limit::ArchiveBytes,
        name: "archive-bytes",
        what: "bytes of an archive or of standard input, and of all that an archive holds",
        bytes: true,
        default: 512 << 20,
        range: (1, u64::MAX),
        beyond: "a larger archive is not read; of an archive that holds more, later files are not read",
    },
    LimitRow {
        limit: Limit::ArchiveRatio,
        name: "archive-ratio",
        what: "ratio to which an archive may unpack; the first MiB is free",
        bytes: false,
        default: 200,
        range: (1, 1_000_000),
        beyond: "content that is packed more tightly is not unpacked",
    },
    LimitRow {
        limit: Limit::ArchiveDepth,
        name: "archive-depth",
        what: "nested archives",
        bytes: false,
        default: 3,
        range: (1, 16),
        beyond: "deeper archives are not opened",
    },
    LimitRow {
        limit: Limit::LineBytes,
        name: "line-bytes",
        what: "bytes of one line",
        bytes: true,
        default: 16 << 20,
        range: (1, 2000 << 20),
        beyond: "the line is not read; the other lines of the file are",
    },
    LimitRow {
        limit: Limit::Nesting,
        name: "nesting",
        what: "nested blocks, sections and values",
        bytes: false,
        default: 32,
        range: (1, 100),
        beyond: "deeper content is not read",
    },
    LimitRow {
        limit: Limit::Includes,
        name: "includes",
        what: "nested includes",
        bytes: false,
        default: 16,
        range: (1, 100),
        beyond: "deeper files are not included; the limit of the daemon holds where it is lower",
    },
    LimitRow {
        limit: Limit::Expansion,
        name: "expansion",
        what: "ratio to which a file may grow by repeated use of what it names once; the first MiB is free",
        bytes: false,
        default: 50,
        range: (1, 1_000_000),
        beyond: "what exceeds it is not understood",
    },
    LimitRow {
        limit: Limit::Rules,
        name: "rules",
        what: "rules of one packet filter",
        bytes: false,
        default: 1_000_000,
        range: (1, ANY),
        beyond: "verdicts that later rules may change are left undetermined",
    },
    LimitRow {
        limit: Limit::SetNodes,
        name: "set-nodes",
        what: "nodes of a set diagram for one query about packets; all queries about rules together in proportion",
        bytes: false,
        default: 60_000,
        range: (1, ANY),
        beyond: "the query is left undetermined and reported as such",
    },
];

impl Limit {
    /// Its description.
    #[must_use]
    pub fn row(self) -> &'static LimitRow {
        &LIMITS[self as usize]
    }

    /// How to go beyond it, as a sentence to end a message with.
    #[must_use]
    pub fn remedy(self) -> String {
        format!("`--limit {}=N` sets another limit", self.row().name)
    }
}

/// Values of all limits.
///
/// ```
/// use trevlin_model::{Limit, Limits};
///
/// let limits = Limits::default().with("nesting=8").unwrap().with("file-bytes=2M").unwrap();
/// assert_eq!((limits.of(Limit::Nesting), limits.of(Limit::FileBytes)), (8, 2 << 20));
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits([u64; LIMITS.len()]);

impl Default for Limits {
    fn default() -> Self {
        Self(LIMITS.each_ref().map(|row| row.default))
    }
}

impl Limits {
    /// Value of a limit.
    #[must_use]
    pub fn get(&self, limit: Limit) -> u64 {
        self.0[limit as usize]
    }

    /// Value of a limit, as a count of objects in memory.
    #[must_use]
    pub fn of(&self, limit: Limit) -> usize {
        usize::try_from(self.get(limit)).unwrap_or(usize::MAX)
    }

    /// The same with one limit set, as `NAME=VALUE`; K, M and G are powers of 1024 for bytes, and of 1000 otherwise.
    ///
    /// # Errors
    /// The expected format.
    pub fn with(mut self, said: &str) -> Result<Self, LimitError> {
        let (name, value) = said.split_once('=').ok_or_else(|| LimitError::NoValue(said.to_owned()))?;
        let Some(row) = LIMITS.iter().find(|row| row.name == name.trim()) else {
            return Err(LimitError::NoLimit(name.to_owned()));
        };
        let number = number(value.trim(), row.bytes)
            .filter(|number| (row.range.0..=row.range.1).contains(number))
            .ok_or_else(|| LimitError::OutOfRange { value: value.to_owned(), row })?;
        self.0[row.limit as usize] = number;
        Ok(self)
    }
}

/// Names of limits.
#[derive(Debug, Clone, Copy)]
struct Names;

impl fmt::Display for Names {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let names: Vec<_> = LIMITS.iter().map(|row| row.name).collect();
        f.write_str(&names.join(", "))
    }
}

/// Why a limit was not set.
#[derive(Debug, Clone, thiserror::Error)]
pub enum LimitError {
    /// The setting has no value.
    #[error("`{0}` has no value; write NAME=VALUE, such as nesting=64")]
    NoValue(String),
    /// There is no such limit.
    #[error("there is no limit `{0}`; known are {Names}")]
    NoLimit(String),
    /// The value is none, or too small or too large.
    #[error("`{value}` is not a value for {} ({}); expected {}{}", row.name, row.what, row.range.0, upto(row.range.1))]
    OutOfRange {
        /// The setting as given.
        value: String,
        /// The limit.
        row: &'static LimitRow,
    },
}

fn upto(most: u64) -> String {
    if most == u64::MAX { String::new() } else { format!(" to {most}") }
}

fn number(text: &str, bytes: bool) -> Option<u64> {
    let digits = text.trim_end_matches(|sign: char| sign.is_ascii_alphabetic());
    let step: u64 = if bytes { 1024 } else { 1000 };
    let unit = match text[digits.len()..].to_ascii_lowercase().trim_end_matches("ib") {
        "" => 1,
        "k" => step,
        "m" => step * step,
        "g" => step * step * step,
        _ => return None,
    };
    digits.parse::<u64>().ok()?.checked_mul(unit)
}

/// A size as people write it.
#[must_use]
pub fn size(bytes: u64) -> String {
    let units = [("GiB", 30), ("MiB", 20), ("KiB", 10)];
    let fits = units.iter().find(|(_, shift)| bytes >= 1 << shift && bytes.is_multiple_of(1 << shift));
    match fits {
        Some((unit, shift)) => format!("{} {unit}", bytes >> shift),
        None if bytes == 1 => "1 byte".to_owned(),
        None => format!("{bytes} bytes"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_stand_in_the_order_of_limits() {
        for (number, row) in LIMITS.iter().enumerate() {
            assert_eq!(row.limit as usize, number, "{}", row.name);
            assert!((row.range.0..=row.range.1).contains(&row.default), "{}", row.name);
        }
    }

    #[test]
    fn values() {
        for (said, wanted) in [
            ("files=20", Ok((Limit::Files, 20))),
            ("files=2k", Ok((Limit::Files, 2000))),
            ("line-bytes=2KiB", Ok((Limit::LineBytes, 2048))),
            ("total-bytes=8G", Ok((Limit::TotalBytes, 8 << 30))),
            ("files", Err("` has no value; write NAME=VALUE, such as nesting=64")),
            ("fils=3", Err("there is no limit `fils`; known are file-bytes")),
            ("nesting=0", Err("expected 1 to 100")),
            ("nesting=200", Err("expected 1 to 100")),
            ("nesting=-1", Err("is not a value for nesting")),
            ("total-bytes=99999999999G", Err("expected 1")),
        ] {
            match (Limits::default().with(said), wanted) {
                (Ok(limits), Ok((limit, value))) => assert_eq!(limits.get(limit), value, "{said}"),
                (Err(why), Err(part)) => assert!(why.to_string().contains(part), "{said}: {why}"),
                (found, _) => panic!("{said}: {found:?}"),
            }
        }
    }

    #[test]
    fn sizes() {
        for (bytes, shown) in
            [(64 << 20, "64 MiB"), (4 << 30, "4 GiB"), (1500, "1500 bytes"), (2048, "2 KiB")]
        {
            assert_eq!(size(bytes), shown);
        }
    }
}
