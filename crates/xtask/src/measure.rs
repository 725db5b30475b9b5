//! Measurements over made-up estates: each audit against reading the same bytes, and against searching the same files for words, in one
//! run.

use crate::{Difference, Maker};
use aho_corasick::AhoCorasick;
use anyhow::{Context, Result, ensure};
use rayon::prelude::*;
use std::fmt;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Words that an auditor without a program would search exports for.
pub const WORDS: [&str; 20] = [
    "PermitRootLogin yes",
    "PasswordAuthentication yes",
    "NOPASSWD",
    "password",
    "secret",
    "psk",
    "md5",
    "des-cbc",
    "modp1024",
    "TLSv1.0",
    "SSLv3",
    "aggressive",
    "comp-lzo",
    "0.0.0.0/0",
    "guest ok",
    "no_root_squash",
    "rocommunity",
    "rwcommunity",
    "temporary",
    "trust",
];

/// Times of some runs.
#[derive(Debug, Clone)]
pub struct Times(Vec<Duration>);

impl Times {
    /// Times of this number of runs.
    ///
    /// # Errors
    /// Where one cannot be done.
    pub fn of(runs: usize, mut run: impl FnMut() -> Result<()>) -> Result<Self> {
        let times: Result<Vec<Duration>> = (0..runs).map(|_| once(&mut run)).collect();
        Ok(Self::sorted(times?))
    }

    /// Times of this number of alternating runs of two functions.
    ///
    /// # Errors
    /// Where one cannot be done.
    pub fn in_turn(
        runs: usize,
        mut one: impl FnMut() -> Result<()>,
        mut other: impl FnMut() -> Result<()>,
    ) -> Result<(Self, Self)> {
        let (mut of_one, mut of_other) = (Vec::with_capacity(runs), Vec::with_capacity(runs));
        for _ in 0..runs {
            of_one.push(once(&mut one)?);
            of_other.push(once(&mut other)?);
        }
        Ok((Self::sorted(of_one), Self::sorted(of_other)))
    }

    fn sorted(mut times: Vec<Duration>) -> Self {
        times.sort_unstable();
        Self(times)
    }

    /// The one in the middle.
    #[must_use]
    pub fn median(&self) -> f64 {
        self.0[self.0.len() / 2].as_secs_f64()
    }
}

#[allow(clippy::disallowed_methods, reason = "a measurement reads the clock")]
fn once(run: &mut impl FnMut() -> Result<()>) -> Result<Duration> {
    let begun = Instant::now();
    run()?;
    Ok(begun.elapsed())
}

impl fmt::Display for Times {
    /// Median, and the shortest and the longest.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let word = |time: f64| match time {
            time if time < 1.0 => format!("{:.0} ms", time * 1e3),
            time => format!("{time:.2} s"),
        };
        let ends = [self.0.first(), self.0.last()].map(|one| one.map_or(0.0, Duration::as_secs_f64));
        write!(f, "{} ({} to {})", word(self.median()), word(ends[0]), word(ends[1]))
    }
}

/// Every file below a folder.
fn files(folder: &Path) -> Result<Vec<PathBuf>> {
    let (mut found, mut folders) = (Vec::new(), vec![folder.to_owned()]);
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder)? {
            let entry = entry?;
            match entry.file_type()?.is_dir() {
                true => folders.push(entry.path()),
                false => found.push(entry.path()),
            }
        }
    }
    found.sort();
    Ok(found)
}

/// Runs a program and returns its peak memory in MiB, as the system reports while it runs.
fn memory_of(command: &mut Command) -> Result<u64> {
    let mut child = command.spawn()?;
    let status = format!("/proc/{}/status", child.id());
    let mut most = 0;
    let ended = loop {
        if let Some(ended) = child.try_wait()? {
            break ended;
        }
        let told = fs::read_to_string(&status).unwrap_or_default();
        let line = told.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let kib = line.and_then(|rest| rest.split_whitespace().next()?.parse::<u64>().ok()).unwrap_or(0);
        most = most.max(kib / 1024);
        std::thread::sleep(Duration::from_millis(2));
    };
    ensure!(ended.success(), "{command:?} ended with {ended}");
    Ok(most)
}

/// Measurements of one estate.
#[derive(Debug)]
pub struct Row {
    /// Devices.
    pub devices: u64,
    /// Files.
    pub files: usize,
    /// Bytes.
    pub bytes: u64,
    /// Reading all bytes.
    pub read: Times,
    /// Searching for twenty words.
    pub search: Times,
    /// The audit.
    pub audit: Times,
    /// The most memory of the audit, in MiB.
    pub memory: u64,
    /// Findings compared with the expected ones.
    pub difference: Difference,
    /// Writing the report as HTML, the audit with it.
    pub report: Times,
}

/// Measures one size. The estate is made in a folder, where it is not there yet.
///
/// # Errors
/// Where something cannot be made, run or read.
pub fn size(program: &Path, devices: u64, runs: usize, folder: &Path) -> Result<Row> {
    let folder = folder.join(format!("{devices}"));
    let (estate, wanted) = (folder.join("estate"), folder.join("expected.json"));
    if !wanted.exists() {
        let expected = Maker::new(1)?.write(devices, &estate)?;
        fs::write(&wanted, serde_json::to_vec(&expected)?)?;
    }
    let all = files(&estate)?;
    let bytes = all.par_iter().map(|file| fs::metadata(file).map_or(0, |found| found.len())).sum();
    let read = Times::of(runs, || {
        let all = files(&estate)?;
        let read: u64 = all.par_iter().map(|file| fs::read(file).map_or(0, |bytes| bytes.len() as u64)).sum();
        ensure!(read == bytes, "the files changed");
        Ok(())
    })?;
    let words = AhoCorasick::new(WORDS)?;
    let search = Times::of(runs, || {
        let all = files(&estate)?;
        let lines = all.par_iter().map(|file| lines_with(&words, file)).collect::<Result<Vec<_>>>()?;
        fs::write(folder.join("lines.txt"), lines.concat())?;
        Ok(())
    })?;
    let found = folder.join("audit.json");
    let mut memory = 0;
    // In turn, so that both meet a machine that is as busy.
    let (audit, report) = Times::in_turn(
        runs,
        || {
            let mut command = Command::new(program);
            command.arg("audit").arg(&estate).args(["--format", "json"]).stdout(File::create(&found)?);
            memory = memory.max(memory_of(command.stderr(Stdio::null()))?);
            Ok(())
        },
        || {
            let mut command = Command::new(program);
            command.arg("report").arg(&estate).arg("--to").arg(folder.join("report.html")).arg("--force");
            memory_of(command.stdout(Stdio::null()).stderr(Stdio::null()))?;
            Ok(())
        },
    )?;
    let difference = Difference::of(&fs::read(&wanted)?, &fs::read(&found)?)?;
    Ok(Row { devices, files: all.len(), bytes, read, search, audit, memory, difference, report })
}

/// The lines of a file that hold one of the words, each with its place, as a search prints them.
fn lines_with(words: &AhoCorasick, file: &Path) -> Result<Vec<u8>> {
    let bytes = fs::read(file).with_context(|| file.display().to_string())?;
    let name = file.as_os_str().as_encoded_bytes();
    let (mut out, mut from, mut number) = (Vec::new(), 0, 1);
    let mut at = 0;
    while let Some(hit) = words.find(&bytes[at..]) {
        let hit = at + hit.start();
        let start = bytes[..hit].iter().rposition(|byte| *byte == b'\n').map_or(0, |found| found + 1);
        let end =
            bytes[hit..].iter().position(|byte| *byte == b'\n').map_or(bytes.len(), |found| hit + found);
        number += bytes[from..start].iter().filter(|byte| **byte == b'\n').count();
        from = start;
        out.extend_from_slice(name);
        out.extend_from_slice(format!(":{number}:").as_bytes());
        out.extend_from_slice(&bytes[start..end]);
        out.push(b'\n');
        at = (end + 1).min(bytes.len());
    }
    Ok(out)
}

/// Runs a program over and over with some arguments.
///
/// # Errors
/// Where it cannot be run, or fails.
pub fn command(program: &Path, runs: usize, arguments: &[&str]) -> Result<Times> {
    Times::of(runs, || {
        let mut command = Command::new(program);
        let ended = command.args(arguments).stdout(Stdio::null()).stderr(Stdio::null()).status()?;
        ensure!(ended.success(), "{arguments:?} ended with {ended}");
        Ok(())
    })
}

impl fmt::Display for Row {
    /// A row of the table.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "| {} | {} | {:.0} MB | {} | {} | {} | {:.0} | {:.1} | {} MiB | {} | {:.2} | {} found, {} missing, {} too many |",
            self.devices,
            self.files,
            self.bytes as f64 / 1e6,
            self.read,
            self.search,
            self.audit,
            self.audit.median() / self.read.median(),
            self.audit.median() / self.search.median(),
            self.memory,
            self.report,
            self.report.median() / self.audit.median(),
            self.difference.right,
            self.difference.missing.len(),
            self.difference.surplus.len(),
        )
    }
}

/// The head of the table.
pub const HEAD: &str = "| devices | files | bytes | reading | searching | audit | × reading | × searching | memory | report (HTML) | × audit | findings |\n\
                        | ---: | ---: | ---: | ---: | ---: | ---: | ---: | ---: | ---: | ---: | ---: | --- |";

/// The exponent by which the audit's time grows from one row to another.
#[must_use]
pub fn exponent(from: &Row, to: &Row) -> f64 {
    (to.audit.median() / from.audit.median()).ln() / (to.devices as f64 / from.devices as f64).ln()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_found_as_a_search_finds_them() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("a");
        fs::write(&file, "one\nPermitRootLogin yes\n\nno md5, no psk\nlast trust").unwrap();
        let found = lines_with(&AhoCorasick::new(WORDS).unwrap(), &file).unwrap();
        let name = file.display();
        let wanted = format!("{name}:2:PermitRootLogin yes\n{name}:4:no md5, no psk\n{name}:5:last trust\n");
        assert_eq!(String::from_utf8(found).unwrap(), wanted);
    }

    #[test]
    fn times_tell_their_spread() {
        let times =
            Times(vec![Duration::from_millis(80), Duration::from_millis(90), Duration::from_millis(1_500)]);
        assert_eq!(times.to_string(), "90 ms (80 ms to 1.50 s)");
    }
}
