//! Readers of services: whatever bytes come, they neither panic nor point outside of the text.

#![no_main]

#[path = "../src/lib.rs"]
mod shared;

libfuzzer_sys::fuzz_target!(|data: &[u8]| shared::read(&shared::others(), data));
