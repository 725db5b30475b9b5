//! How fast each format is recognised and read, on one core: `cargo bench --bench formats`. The exports are those of made-up devices of
//! every kind, each with the other files of its device around it.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a benchmark measures and prints"
)]

use std::collections::BTreeMap;
use std::hint::black_box;
use std::time::{Duration, Instant};
use trevlin_model::{Export, ExportId};
use trevlin_readers::{ReadContext, recognise};
use xtask::Maker;

/// Devices of each kind.
const DEVICES: u64 = 40;
/// How long each format is read at least.
const LONG: Duration = Duration::from_millis(200);

fn main() {
    let maker = Maker::new(1).unwrap();
    let mut devices: Vec<Vec<Export>> = Vec::new();
    for kind in maker.kinds() {
        for number in 0..DEVICES {
            let made = maker.of_kind(kind, number, None, 400).unwrap();
            let exports = made.files.into_iter().enumerate().map(|(id, (path, text))| {
                Export::new(ExportId(id as u32), format!("{}/{path}", made.name), text)
            });
            devices.push(exports.collect());
        }
    }
    let mut by_format: BTreeMap<&str, Vec<(usize, usize)>> = BTreeMap::new();
    for (device, exports) in devices.iter().enumerate() {
        for (at, export) in exports.iter().enumerate() {
            let name = recognise(export).reader.map_or("(none)", |reader| reader.name);
            by_format.entry(name).or_default().push((device, at));
        }
    }
    println!(
        "{:<20} {:>7} {:>10} {:>16} {:>12}",
        "format", "files", "bytes each", "recognised MB/s", "read MB/s"
    );
    for (name, files) in by_format {
        let export = |(device, at): &(usize, usize)| &devices[*device][*at];
        let bytes: usize = files.iter().map(|one| export(one).text().len()).sum();
        let recognised = speed(bytes, || {
            files.iter().for_each(|one| {
                black_box(recognise(export(one)));
            });
        });
        let reader = recognise(export(&files[0])).reader;
        let read = reader.map_or("-".to_owned(), |reader| {
            let speed = speed(bytes, || {
                for one in &files {
                    let around = ReadContext::of(devices[one.0].iter().collect());
                    black_box((reader.read)(export(one), &around));
                }
            });
            format!("{speed:.1}")
        });
        println!("{name:<20} {:>7} {:>10} {recognised:>16.1} {read:>12}", files.len(), bytes / files.len());
    }
}

/// Megabytes in a second.
fn speed(bytes: usize, mut run: impl FnMut()) -> f64 {
    let begun = Instant::now();
    let mut runs = 0;
    while begun.elapsed() < LONG {
        run();
        runs += 1;
    }
    bytes as f64 * f64::from(runs) / 1e6 / begun.elapsed().as_secs_f64()
}
