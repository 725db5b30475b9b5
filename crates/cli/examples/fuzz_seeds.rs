//! Writes what each fuzz target begins with, from the exports of our own tests: `fuzz_seeds FOLDER`.

#[path = "../../readers/tests/support/mod.rs"]
mod support;

#[path = "../../../fuzz/src/lib.rs"]
mod shared;

use std::fs;
use std::path::{Path, PathBuf};
use trevlin_model::{Export, ExportId};
use trevlin_readers::{decode, recognise};

fn main() {
    let to = PathBuf::from(std::env::args().nth(1).expect("a folder to write to"));
    let groups = shared::groups();
    for (number, seed) in support::seeds().into_iter().enumerate() {
        let write = |target: &str, head: &[u8], tail: &[u8]| {
            let at = to.join(target);
            fs::create_dir_all(&at).expect("a folder");
            let bytes = [head, &seed.bytes, tail].concat();
            fs::write(at.join(format!("{number:03}")), bytes).expect("written");
        };
        let Ok(text) = decode(&seed.bytes) else { continue };
        let export = Export::new(ExportId(0), format!("{}/{}", seed.device, seed.path), text.clone());
        if text.contains(trevlin_readers::BOOK) {
            write("phrasebook", b"", &[&[shared::BETWEEN as u8][..], &spoken()].concat());
        }
        let Some(reader) = recognise(&export).reader else { continue };
        if reader.name == "sheet" {
            write("sheet", b"", b"");
        }
        for (target, group) in &groups {
            if let Some(at) = group.iter().position(|name| *name == reader.name) {
                write(target, &[at as u8], b"");
            }
        }
    }
    for estate in ["demo/before", "demo/after"] {
        let at = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(estate).join("trevlin.toml");
        let folder = to.join("estate_file");
        fs::create_dir_all(&folder).expect("a folder");
        fs::copy(at, folder.join(estate.replace('/', "-"))).expect("copied");
    }
    for target in ["archive", "filter_engine"] {
        let folder = to.join(target);
        fs::create_dir_all(&folder).expect("a folder");
        fs::write(folder.join("zeros"), [0; 64]).expect("written");
    }
    archives(&to.join("archive"));
}

/// An export that the demo's phrasebooks are for.
fn spoken() -> Vec<u8> {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/before");
    let folders = fs::read_dir(demo).expect("the demo").map(|entry| entry.expect("read").path());
    let texts = folders.filter(|at| at.is_dir()).flat_map(|at| fs::read_dir(at).expect("a folder"));
    let mut texts: Vec<PathBuf> = texts.map(|entry| entry.expect("read").path()).collect();
    texts.retain(|at| at.extension().is_some_and(|ending| ending == "txt"));
    texts.sort();
    texts.first().map(|at| fs::read(at).expect("read")).unwrap_or_default()
}

/// Archives of every form, made with what every system has.
fn archives(folder: &Path) {
    let from = Path::new(env!("CARGO_MANIFEST_DIR")).join("../readers/tests/cases/dial-in");
    for (number, options) in [(1, "-cf"), (2, "-czf"), (3, "-cJf")] {
        let at = folder.join(format!("tar{number}"));
        let made =
            std::process::Command::new("tar").args([options]).arg(&at).arg("-C").arg(&from).arg(".").status();
        if made.is_ok_and(|status| status.success()) {
            let bytes = [&[number as u8][..], &fs::read(&at).expect("read")].concat();
            fs::write(&at, bytes).expect("written");
        }
    }
    // An empty ZIP, and one with a file that is stored (APPNOTE 4.3).
    let _ = fs::write(folder.join("zip0"), b"\0PK\x05\x06\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0");
}
