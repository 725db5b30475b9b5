//! A corpus of damaged files over all formats: each audited by itself, and all in one go by the built program.
//!
//! Run by `scripts/corpus.sh`. `TREVLIN_CORPUS` is the number of files; `TREVLIN_CORPUS_IN` keeps them in a folder.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::disallowed_methods, reason = "how long it takes is what is tested")]

#[path = "../../readers/tests/support/mod.rs"]
mod support;

use rayon::prelude::*;
use std::fs;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use support::{Dice, Seed, damage, seeds};
use trevlin_audit::{Analyses, Estate, Input, ValidEstateFile, audit};
use trevlin_model::{Export, ExportId};
use trevlin_readers::{ReadContext, decode, recognise};

/// Files of a device.
const PER_DEVICE: usize = 12;
/// One file in this number is as large as the limit for a file that is read at once.
const ONE_IN: usize = 2_000;
/// How large those are, in bytes.
const LARGE: usize = 900_000;
/// The longest that a file under a megabyte may take.
const LONGEST: Duration = Duration::from_secs(10);
/// The most memory that a run may take, in KiB.
const MOST_MEMORY: u64 = 1 << 20;

/// The damaged file with this number.
fn made(number: usize, seeds: &[Seed]) -> (String, Vec<u8>) {
    let mut dice = Dice::new(number as u64 + 1);
    // Every seed has its turn.
    let seed = &seeds[number % seeds.len()];
    let mut bytes = seed.bytes.clone();
    if number.is_multiple_of(ONE_IN) && !bytes.is_empty() {
        bytes = bytes.repeat(LARGE / bytes.len());
    }
    for _ in 0..1 + dice.roll(6) {
        damage(&mut bytes, seeds, &mut dice);
    }
    // Folders that hold `etc` would each be a device if they lay directly in one.
    (format!("d{:05}/files/{number}/{}", number / PER_DEVICE, seed.path), bytes)
}

/// Reads and judges a file alone.
fn judged(path: &str, bytes: &[u8]) {
    let Ok(text) = decode(bytes) else { return };
    let export = Export::new(ExportId(0), path, text);
    let Some(reader) = recognise(&export).reader else { return };
    let reading = (reader.read)(&export, &ReadContext::of(vec![&export]));
    let input = Input {
        export,
        folder: "d".into(),
        format: Some(reader.name),
        facts: reading.facts,
        ledger: reading.ledger,
    };
    let estate = Analyses::of(Estate::assemble(vec![input], &ValidEstateFile::default()));
    let _ = audit(&estate, &estate.baseline(jiff::civil::date(2026, 11, 25)));
}

#[test]
#[ignore = "takes minutes; scripts/corpus.sh runs it"]
fn damaged_files_are_audited() {
    let count: usize = std::env::var("TREVLIN_CORPUS").map_or(2_000, |text| text.parse().unwrap());
    let seeds = seeds();
    let temporary = tempfile::TempDir::new().unwrap();
    let folder =
        std::env::var_os("TREVLIN_CORPUS_IN").map_or_else(|| temporary.path().to_owned(), PathBuf::from);
    let slowest = (0..count)
        .into_par_iter()
        .map(|number| {
            let (path, bytes) = made(number, &seeds);
            let at = folder.join(&path);
            fs::create_dir_all(at.parent().unwrap()).unwrap();
            fs::write(&at, &bytes).unwrap();
            let start = Instant::now();
            let outcome = catch_unwind(AssertUnwindSafe(|| judged(&path, &bytes)));
            assert!(outcome.is_ok(), "{path} makes the audit panic (file {number} of the corpus)");
            (start.elapsed(), path)
        })
        .max()
        .unwrap();
    println!("{count} files, each by itself: the slowest took {:.2?}: {}", slowest.0, slowest.1);
    assert!(slowest.0 < LONGEST, "{slowest:?}");
    let (took, memory) = in_one_go(&folder);
    println!("{count} files in one go: {took:.1?}, {} MiB at most", memory >> 10);
    assert!(memory < MOST_MEMORY, "{memory} KiB");
}

/// Audits a folder with the built program: how long it took, and the most memory it held, in KiB.
fn in_one_go(folder: &Path) -> (Duration, u64) {
    let (out, err) = (tempfile::NamedTempFile::new().unwrap(), tempfile::NamedTempFile::new().unwrap());
    let start = Instant::now();
    let mut child = Command::new(env!("CARGO_BIN_EXE_trevlin"))
        .args(["audit", "--format", "json"])
        .arg(folder)
        .stdout(Stdio::from(out.reopen().unwrap()))
        .stderr(Stdio::from(err.reopen().unwrap()))
        .spawn()
        .unwrap();
    let status = format!("/proc/{}/status", child.id());
    let mut memory = 0;
    let code = loop {
        // The kernel keeps the high-water mark; the last one read is short of the end by a moment.
        let text = fs::read_to_string(&status).unwrap_or_default();
        let peak = text.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let peak = peak.and_then(|rest| rest.trim().trim_end_matches(" kB").parse().ok());
        memory = memory.max(peak.unwrap_or_default());
        if let Some(code) = child.try_wait().unwrap() {
            break code;
        }
        std::thread::sleep(Duration::from_millis(5));
    };
    let told = fs::read_to_string(err.path()).unwrap();
    assert!(!told.contains("panicked"), "{told}");
    assert_eq!(code.code(), Some(0), "{told}");
    let found: serde_json::Value = serde_json::from_slice(&fs::read(out.path()).unwrap()).unwrap();
    assert!(!found["findings"].as_array().unwrap().is_empty());
    (start.elapsed(), memory)
}
