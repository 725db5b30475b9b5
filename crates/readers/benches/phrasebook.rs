//! 100 MB of export through a phrasebook of 200 phrases: `cargo bench -p trevlin-readers`.
//!
//! Inputs are made up from a fixed seed, so that runs can be compared. They measure; they never fail on time.

use divan::counter::BytesCount;
use divan::{Bencher, black_box};
use std::fmt::Write;
use trevlin_model::{Export, ExportId};
use trevlin_readers::{BOOK, Phrasebook};

/// The same as the command's.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() {
    divan::main();
}

/// Phrases that nothing lands from, beside two that make rules and interfaces.
const QUIET: u32 = 198;
const SIZE: usize = 100_000_000;

fn book() -> Phrasebook {
    let mut text = format!(
        "phrasebook = \"{BOOK}\"\nname = \"a gate\"\nshape = \"lines\"\n[recognise]\nlines = [\"gatekeeper release {{_v}}\"]\n\
         [values.verdict]\npass = \"allow\"\nstop = \"deny\"\n\
         [[phrase]]\nsays = \"port {{port}} holds {{net:prefix}}\"\n\
         lands = {{ \"interfaces[name={{port}}].addresses[].net\" = \"{{net}}\" }}\n\
         [[phrase]]\nsays = \"line {{n:number}} {{do:verdict}} from {{from}} to {{to}} [for {{protocol}} {{ports:ports}}]\"\n\
         [phrase.lands]\n\"rules[{{n}}].action\" = \"{{do}}\"\n\"rules[{{n}}].from[]\" = \"{{from}}\"\n\
         \"rules[{{n}}].to[]\" = \"{{to}}\"\n\"rules[{{n}}].services[]\" = \"{{protocol}} {{ports}}\"\n"
    );
    for number in 0..QUIET {
        let _ = writeln!(
            text,
            "[[phrase]]\nsays = \"thing{number} {{_a:number}} set value {{_v:number}} [of {{_x:address}}]\""
        );
    }
    let (book, notes) = Phrasebook::read(&Export::new(ExportId(0), "book.toml", text));
    assert!(notes.is_empty(), "{notes:?}");
    book
}

/// One line in `every` is a rule.
fn export(every: u32) -> String {
    let mut text = String::from("port alpha holds 192.0.2.18/29\nport beta holds 10.20.4.1/24\n");
    let (mut seed, mut number) = (7u64, 0u32);
    while text.len() < SIZE {
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        number += 1;
        let _ = if number.is_multiple_of(every) {
            writeln!(text, "line {number} pass from beta to alpha for tcp {}", seed % 65_000)
        } else {
            let thing = seed % u64::from(QUIET);
            writeln!(text, "thing{thing} {} set value {} of 10.4.{}.1", seed % 100, seed % 99_991, seed % 256)
        };
    }
    text
}

#[divan::bench(args = [4, 100, 10_000], sample_count = 3, sample_size = 1)]
fn hundred_megabytes_by_one_rule_in(bencher: Bencher<'_, '_>, every: u32) {
    let book = book();
    let export = Export::new(ExportId(0), "gate/config.txt", export(every));
    bencher
        .counter(BytesCount::new(export.text().len()))
        .bench_local(|| black_box(book.read_export(black_box(&export))));
}
