//! Device sheets: checked, read, written and read again.

#![no_main]

use trevlin_model::{Export, ExportId};
use trevlin_readers::{check_sheet, decode};

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let Ok(text) = decode(data) else { return };
    let _ = check_sheet(&Export::new(ExportId(0), "sheet.toml", text));
});
