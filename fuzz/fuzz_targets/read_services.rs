//! Readers of services: for any bytes, they neither panic nor return places out of the text.

#![no_main]

#[path = "../src/lib.rs"]
mod shared;

libfuzzer_sys::fuzz_target!(|data: &[u8]| shared::read(&shared::others(), data));
