//! Small estates written down as text, for tests.

#![allow(clippy::unwrap_used, reason = "only tests use it")]

use crate::assemble::{Estate, Input};
use crate::config::ValidEstateFile;
use std::collections::BTreeSet;
use std::fmt::{Debug, Write};
use std::fs;
use std::path::Path;
use trevlin_model::{Export, ExportId, LineClass};
use trevlin_readers::{ReadContext, Reading, decode, named, recognise};

/// Device `a` has the address 10.4.0.1, which is the default gateway of device `b`: they share a network.
pub const GATE: (&str, &str) =
    ("a/ip-addr.json", r#"[{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#);
/// Device `b`, behind it.
pub const BEHIND: (&str, &str) =
    ("b/ip-route.json", r#"[{"dst":"default","gateway":"10.4.0.1","flags":[]}]"#);

/// An estate from paths (`device/file`) and texts.
pub fn estate(files: &[(&str, &str)]) -> Estate {
    estate_with(files, "")
}

/// The same with an estate file.
pub fn estate_with(files: &[(&str, &str)], estate_file: &str) -> Estate {
    let exports: Vec<Export> = files
        .iter()
        .enumerate()
        .map(|(at, (path, text))| Export::new(ExportId(at as u32), *path, (*text).to_owned()))
        .collect();
    let folder = |path: &str| path.split('/').next().unwrap().to_owned();
    let mut readers: Vec<_> = exports.iter().map(|export| recognise(export).reader).collect();
    let folders: BTreeSet<String> = exports.iter().map(|export| folder(export.path())).collect();
    for device in folders {
        let numbers: Vec<usize> =
            (0..exports.len()).filter(|at| folder(exports[*at].path()) == device).collect();
        let own: Vec<_> = numbers.iter().map(|at| (&exports[*at], readers[*at])).collect();
        named(&own).into_iter().for_each(|(at, reader)| readers[numbers[at]] = Some(reader));
    }
    let readings: Vec<_> = exports
        .iter()
        .zip(readers)
        .map(|(export, reader)| {
            let own = folder(export.path());
            let around = ReadContext::of(exports.iter().filter(|one| folder(one.path()) == own).collect());
            let reading = reader.map_or_else(
                || {
                    let mut reading = Reading::of(export);
                    reading.ledger.set(1, export.line_count(), LineClass::NotUnderstood);
                    reading
                },
                |reader| trevlin_readers::includes::read(reader, export, &around),
            );
            (reader.map(|reader| reader.name), reading)
        })
        .collect();
    let inputs = exports.into_iter().zip(readings).map(|(export, (format, reading))| Input {
        folder: folder(export.path()),
        export,
        format,
        facts: reading.facts,
        ledger: reading.ledger,
    });
    // The list of checks is defined by crates above.
    let known = |id: &str| Ok(&*Box::leak(id.to_owned().into_boxed_str()));
    Estate::assemble(inputs.collect(), &ValidEstateFile::parse(estate_file, &known).unwrap())
}

/// Whether a file of this name and text is of a format that is read.
pub fn is_read(path: &str, text: &str) -> bool {
    recognise(&Export::new(ExportId(0), path, text.to_owned())).reader.is_some()
}

/// A certificate or key of the readers' cases.
pub fn certificate(name: &str) -> &'static str {
    macro_rules! cases {
        ($($known:literal)*) => {
            match name {
                $($known => include_str!(concat!("../../readers/tests/cases/pem/", $known, ".pem")),)*
                other => panic!("there is no case {other}"),
            }
        };
    }
    cases!("authority" "edwards" "ends-soon" "expired" "foreign-authority" "key" "key-openssh" "key-openssh-protected"
        "key-protected" "key-traditional-protected" "not-yet" "old-authority" "self-signed" "server" "short-key" "short-key-signed-with-sha1"
        "signed-with-pss-over-sha1" "signed-with-sha1" "wildcard")
}

/// Estates for comparison with recorded output: name and folder.
pub const WHOLE: [(&str, &str); 3] = [
    ("the_demo_as_found", "demo/before"),
    ("the_demo_corrected", "demo/after"),
    ("a_device_for_each_format", "crates/readers/tests/cases/formats"),
];

/// An estate from the files below a folder of this project, with its estate file.
pub fn of_folder(folder: &str) -> Estate {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(folder);
    let (stated, exports): (Vec<_>, Vec<_>) =
        files(&folder).into_iter().partition(|(path, _)| path == "trevlin.toml");
    let exports: Vec<(&str, &str)> = exports
        .iter()
        .filter(|(path, _)| path.contains('/'))
        .map(|(path, text)| (path.as_str(), text.as_str()))
        .collect();
    estate_with(&exports, stated.first().map_or("", |(_, text)| text))
}

/// Files below a folder that are text, as `device/path`.
fn files(folder: &Path) -> Vec<(String, String)> {
    fn below(at: &Path, top: &Path, found: &mut Vec<(String, String)>) {
        let mut entries: Vec<_> = fs::read_dir(at).unwrap().map(|entry| entry.unwrap().path()).collect();
        entries.sort();
        for path in entries {
            if path.is_dir() {
                below(&path, top, found);
            } else if let Ok(text) = decode(&fs::read(&path).unwrap()) {
                found.push((path.strip_prefix(top).unwrap().to_string_lossy().into_owned(), text));
            }
        }
    }
    let mut found = Vec::new();
    below(folder, folder, &mut found);
    found
}

/// Content of an estate, one line for each object, for comparison with recorded output.
#[derive(Debug)]
pub struct Page<'a> {
    estate: &'a Estate,
    text: String,
}

impl<'a> Page<'a> {
    /// An empty page.
    pub fn of(estate: &'a Estate) -> Self {
        Self { estate, text: String::new() }
    }

    /// Its text.
    pub fn text(self) -> String {
        self.text
    }

    /// Begins a part.
    pub fn part(&mut self, title: &str) {
        writeln!(self.text, "\n== {title}").unwrap();
    }

    /// A thing as one line, with places as files and lines.
    pub fn line(&mut self, head: &str, thing: &dyn Debug) {
        let printed = format!("{thing:?}");
        let mut rest = printed.as_str();
        write!(self.text, "{head}: ").unwrap();
        // Read: what the standard library prints of a value, by a test.
        while let Some((before, behind)) = rest.split_once("Origin { export: ExportId(") {
            let (place, behind) = behind.split_once(" }").unwrap();
            let mut numbers =
                place.split(|sign: char| !sign.is_ascii_digit()).filter(|part| !part.is_empty());
            let mut next = || numbers.next().unwrap().parse::<usize>().unwrap();
            let (export, start) = (next(), next());
            let export = &self.estate.exports[export].export;
            let line = export.line_of(start as u32);
            write!(self.text, "{before}{}:{line}", export.path()).unwrap();
            rest = behind;
        }
        self.text.push_str(rest);
        self.text.push('\n');
    }

    /// Several, a line each.
    pub fn each<T: Debug>(&mut self, head: &str, all: impl IntoIterator<Item = T>) {
        for one in all {
            self.line(head, &one);
        }
    }
}
