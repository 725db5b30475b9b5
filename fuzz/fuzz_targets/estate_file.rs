//! `trevlin.toml`.

#![no_main]

use trevlin_audit::ValidEstateFile;

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    if let Ok(text) = std::str::from_utf8(data) {
        let _ =
            ValidEstateFile::parse(text, &trevlin_audit::checks::known).map_err(|error| error.to_string());
    }
});
