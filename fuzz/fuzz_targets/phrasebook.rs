//! Phrasebooks, and exports read with them.

#![no_main]

#[path = "../src/lib.rs"]
mod shared;

use trevlin_model::{Export, ExportId};
use trevlin_readers::{Phrasebook, decode};

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let Ok(text) = decode(data) else { return };
    let (book, text) = text.split_once(shared::BETWEEN).unwrap_or((&text, ""));
    let (book, notes) = Phrasebook::read(&Export::new(ExportId(0), "gate.toml", book.to_owned()));
    for note in notes {
        assert!(note.origin.start <= note.origin.end);
    }
    let export = Export::new(ExportId(1), "gate/config.txt", text.to_owned());
    let _ = book.read_export(&export);
    let _ = book.try_on(&export);
});
