//! Damaged exports: every export of the tests and of the demo, and what happens to files on their way.

#![allow(dead_code, reason = "each test uses its part of this")]

use std::fs;
use std::path::{Path, PathBuf};

/// Numbers that look random and are the same in every run (xorshift).
#[derive(Debug, Clone)]
pub(crate) struct Dice(u64);

impl Dice {
    /// Dice that roll the same for the same number.
    pub(crate) fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1)
    }

    /// A number below another.
    pub(crate) fn roll(&mut self, sides: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        ((self.0 >> 16) % sides.max(1) as u64) as usize
    }

    /// One of several.
    pub(crate) fn pick<'a, T>(&mut self, all: &'a [T]) -> &'a T {
        &all[self.roll(all.len())]
    }
}

/// An export that nothing happened to.
#[derive(Debug, Clone)]
pub(crate) struct Seed {
    /// The folder of its device.
    pub(crate) device: String,
    /// Its path below that.
    pub(crate) path: String,
    /// Its bytes.
    pub(crate) bytes: Vec<u8>,
}

/// Every export of the readers' cases, of the demo and of the device that is described in five formats, in order of path.
pub(crate) fn seeds() -> Vec<Seed> {
    let top = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut found = Vec::new();
    for folder in ["crates/readers/tests/cases", "demo/before", "crates/cli/tests/five"] {
        let folder = top.join(folder);
        for device in below(&folder) {
            if device.is_dir() {
                files(&device, &mut |at| {
                    found.push(Seed {
                        device: format!("{}-{}", name(&folder), name(&device)),
                        path: at.strip_prefix(&device).expect("below").to_string_lossy().into_owned(),
                        bytes: fs::read(at).expect("read"),
                    });
                });
            }
        }
    }
    assert!(found.len() > 150, "{}", found.len());
    found
}

fn name(at: &Path) -> String {
    at.file_name().expect("a name").to_string_lossy().into_owned()
}

fn below(folder: &Path) -> Vec<PathBuf> {
    let mut found: Vec<_> =
        fs::read_dir(folder).expect("a folder").map(|entry| entry.expect("read").path()).collect();
    found.sort();
    found
}

/// Every file below a folder, in order of path.
pub(crate) fn files(folder: &Path, take: &mut dyn FnMut(&Path)) {
    for at in below(folder) {
        if at.is_dir() {
            files(&at, take);
        } else {
            take(&at);
        }
    }
}

/// Input that breaks parsers: brackets and quotes, extreme numbers, foreign syntax.
const SPLINTERS: [&[u8]; 32] = [
    b"{",
    b"}",
    b"[",
    b"]",
    b"(",
    b")",
    b"<",
    b">",
    b"\"",
    b"'",
    b"\\",
    b";",
    b"=",
    b"#",
    b"/*",
    b"*/",
    b"\n",
    b"\r\n",
    b"\0",
    b"\xff\xfe",
    b"\xc3",
    b"\xe2\x80\xae",
    b"\x1b[31m",
    b"0",
    b"-1",
    b"65536",
    b"4294967296",
    b"18446744073709551616",
    b"0.0.0.0/0",
    b"::/129",
    b"$(x)",
    b"%s",
];

/// Damages an export once.
pub(crate) fn damage(bytes: &mut Vec<u8>, others: &[Seed], dice: &mut Dice) {
    let at = dice.roll(bytes.len() + 1);
    match dice.roll(11) {
        0 => bytes.truncate(at),
        1 => lines(
            bytes,
            |all, dice| {
                let (one, two) = (dice.roll(all.len()), dice.roll(all.len()));
                all.swap(one, two)
            },
            dice,
        ),
        2 => lines(
            bytes,
            |all, dice| {
                let one = dice.pick(all).clone();
                all.insert(dice.roll(all.len()), one)
            },
            dice,
        ),
        3 => lines(
            bytes,
            |all, dice| {
                all.remove(dice.roll(all.len()));
            },
            dice,
        ),
        4 => {
            let garbage: Vec<u8> = (0..1 + dice.roll(12)).map(|_| dice.roll(256) as u8).collect();
            bytes.splice(at..at, garbage);
        }
        5 => {
            if let Some(byte) = bytes.get_mut(at) {
                *byte ^= 1 << dice.roll(8);
            }
        }
        6 => {
            let splinter = *dice.pick(&SPLINTERS);
            bytes.splice(at..at, splinter.iter().copied());
        }
        7 => {
            let splinter = *dice.pick(&SPLINTERS);
            let end = (at + dice.roll(9)).min(bytes.len());
            bytes.splice(at..end, splinter.iter().copied());
        }
        8 => {
            let other = &dice.pick(others).bytes;
            let (from, length) = (dice.roll(other.len()), dice.roll(200));
            let piece = other[from..(from + length).min(other.len())].to_vec();
            bytes.splice(at..at, piece);
        }
        9 => {
            let from = dice.roll(bytes.len() + 1).min(at);
            let piece = bytes[from..at.min(from + 400)].to_vec();
            bytes.splice(at..at, piece.repeat(times(dice, 40)));
        }
        _ => {
            let splinter = *dice.pick(&SPLINTERS);
            bytes.splice(at..at, splinter.repeat(times(dice, 300)));
        }
    }
}

/// A few times as a rule, and now and then as often as `most`.
fn times(dice: &mut Dice, most: usize) -> usize {
    1 + if dice.roll(16) == 0 { dice.roll(most) } else { dice.roll(4) }
}

fn lines(bytes: &mut Vec<u8>, change: impl Fn(&mut Vec<Vec<u8>>, &mut Dice), dice: &mut Dice) {
    let mut all: Vec<Vec<u8>> = bytes.split_inclusive(|byte| *byte == b'\n').map(<[u8]>::to_vec).collect();
    if !all.is_empty() {
        change(&mut all, dice);
        *bytes = all.concat();
    }
}
