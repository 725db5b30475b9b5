//! The seeds and former findings of the fuzz targets, read and judged again: by the plain test command, without a fuzzer.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

#[path = "../../readers/tests/support/mod.rs"]
mod support;

#[path = "../../../fuzz/src/lib.rs"]
mod shared;

use rayon::prelude::*;
use std::fs;
use std::path::Path;
use support::seeds;
use trevlin_model::{Export, ExportId};
use trevlin_readers::{READERS, decode, recognise};

#[test]
fn every_reader_is_in_a_group() {
    let mut named: Vec<&str> = shared::groups().into_iter().flat_map(|(_, group)| group).collect();
    named.sort_unstable();
    let all: Vec<&str> = READERS.iter().map(|reader| reader.name).collect();
    assert_eq!(named, all, "each once");
}

#[test]
fn seeds_are_read_and_judged() {
    let groups = shared::groups();
    seeds().into_par_iter().for_each(|seed| {
        let Ok(text) = decode(&seed.bytes) else { return };
        let export = Export::new(ExportId(0), format!("{}/{}", seed.device, seed.path), text);
        let Some(reader) = recognise(&export).reader else { return };
        let (_, group) = groups.iter().find(|(_, group)| group.contains(&reader.name)).unwrap();
        let which = group.iter().position(|name| *name == reader.name).unwrap() as u8;
        // One length in four is judged as well: whichever that is.
        for blanks in 0..4 {
            let data = [&[which][..], &seed.bytes, &b"\n\n\n"[..blanks]].concat();
            shared::read(group, &data);
        }
    });
}

/// `fuzz/kept` has a folder for each target that reads formats: small inputs that go ways of their own through the readers, and those
/// that once found something.
#[test]
fn what_was_kept_is_read_and_judged() {
    let kept = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/kept");
    for (target, group) in shared::groups() {
        let files: Vec<_> =
            fs::read_dir(kept.join(target)).unwrap().map(|entry| entry.unwrap().path()).collect();
        assert!(!files.is_empty(), "{target}");
        files.par_iter().for_each(|file| shared::read(&group, &fs::read(file).unwrap()));
    }
}
