//! Reading and auditing, with sizes: `cargo bench`.
//!
//! Inputs are made up from a fixed seed, so that runs can be compared. They measure; they never fail on time.

use divan::counter::BytesCount;
use divan::{Bencher, black_box};
use std::fmt::Write;
use std::path::Path;
use trevlin_audit::{Analyses, Baseline, Estate, Input, ValidEstateFile, audit};
use trevlin_model::{Export, ExportId};
use trevlin_readers::{ReadContext, Reading, decode, recognise};
use trevlin_render::{Detail, Json, Renderer, Text};

fn main() {
    divan::main();
}

/// A small generator of numbers, the same in every run.
struct Seeded(u64);

impl Seeded {
    fn below(&mut self, limit: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % limit
    }
}

fn iptables(rules: u64) -> String {
    let mut seeded = Seeded(7);
    let mut text = String::from("*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n");
    for _ in 0..rules {
        let (a, b, port) = (seeded.below(256), seeded.below(256), 1 + seeded.below(65535));
        let _ = writeln!(
            text,
            "-A FORWARD -s 10.{a}.{b}.0/24 -d 10.{b}.{a}.9/32 -p tcp -m tcp --dport {port} -j ACCEPT"
        );
    }
    text.push_str("COMMIT\n");
    text
}

fn chap_secrets(lines: u64) -> String {
    let mut seeded = Seeded(11);
    let mut text = String::new();
    for number in 0..lines {
        let _ = writeln!(
            text,
            "user{number} gate \"x{:x}{:x}\" 10.4.{}.{}",
            seeded.below(u64::MAX),
            number,
            number / 250,
            number % 250
        );
    }
    text
}

fn openvpn(lines: u64) -> String {
    let mut text = String::from("dev tun\nserver 10.8.0.0 255.255.0.0\n");
    for number in 0..lines {
        let _ = writeln!(text, "push \"route 10.{}.{}.0 255.255.255.0\"", number / 250 % 250, number % 250);
    }
    text
}

fn interfaces(count: u64) -> String {
    let one = |number: u64| {
        format!(
            r#"{{"ifname":"eth{number}","flags":["UP"],"link_type":"ether","addr_info":[{{"family":"inet","local":"10.{}.{}.1","prefixlen":24}}]}}"#,
            number / 250 % 250,
            number % 250
        )
    };
    format!("[{}]", (0..count).map(one).collect::<Vec<_>>().join(",\n"))
}

fn read(export: &Export) -> Reading {
    recognise(export)
        .reader
        .map_or_else(Reading::default, |reader| (reader.read)(export, &ReadContext::of(vec![export])))
}

/// Recognising and reading one large export of each format.
#[divan::bench(args = ["iptables", "chap-secrets", "openvpn", "ip-addr"])]
fn reading(bencher: Bencher<'_, '_>, format: &str) {
    let (name, text) = match format {
        "iptables" => ("iptables-save.txt", iptables(10_000)),
        "chap-secrets" => ("chap-secrets", chap_secrets(10_000)),
        "openvpn" => ("server.conf", openvpn(10_000)),
        _ => ("ip-addr.json", interfaces(10_000)),
    };
    let export = Export::new(ExportId(0), name, text);
    bencher.counter(BytesCount::of_str(export.text())).bench_local(|| read(black_box(&export)));
}

/// Every file of the demo estate as path and text.
fn demo() -> Vec<(String, String)> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/before");
    let (mut found, mut folders) = (Vec::new(), vec![root.clone()]);
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
            let path = entry.path();
            if path.is_dir() {
                folders.push(path);
            } else if let Some(text) = std::fs::read(&path).ok().and_then(|bytes| decode(&bytes).ok()) {
                found.push((path.strip_prefix(&root).unwrap_or(&path).display().to_string(), text));
            }
        }
    }
    found.sort();
    found
}

/// The demo estate a given number of times, each copy with devices and addresses of its own.
fn estate(demo: &[(String, String)], copies: usize) -> Analyses {
    let files = (0..copies)
        .flat_map(|copy| demo.iter().filter(|(path, _)| path.contains('/')).map(move |file| (copy, file)));
    let exports: Vec<Export> = files
        .enumerate()
        .map(|(id, (copy, (path, text)))| {
            Export::new(
                ExportId(id as u32),
                format!("{copy:05}-{path}"),
                text.replace("10.20.", &format!("10.{}.", copy % 250)),
            )
        })
        .collect();
    let inputs = exports.into_iter().map(|export| {
        let reading = read(&export);
        let folder = export.path().split('/').next().unwrap_or_default().to_owned();
        Input {
            format: recognise(&export).reader.map(|reader| reader.name),
            folder,
            facts: reading.facts,
            ledger: reading.ledger,
            export,
        }
    });
    Analyses::of(Estate::assemble(inputs.collect(), &ValidEstateFile::default()))
}

/// Reading, putting together, judging and writing the demo estate, as the command does without its files.
#[divan::bench(args = [1, 10, 100], sample_count = 10)]
fn whole_audit(bencher: Bencher<'_, '_>, copies: usize) {
    let demo = demo();
    let bytes: usize = demo.iter().map(|(_, text)| text.len()).sum();
    bencher.counter(BytesCount::new(bytes * copies)).bench_local(|| {
        let outcome =
            audit(&estate(black_box(&demo), copies), &Baseline::on(jiff::civil::date(2026, 11, 25)));
        let mut out = Vec::new();
        let _ =
            Text { width: 100, detail: Detail::Full, again: "trevlin audit ." }.render(&outcome, &mut out);
        let _ = Json::default().render(&outcome, &mut out);
        out
    });
}
