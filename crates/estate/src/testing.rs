//! Small estates written down as text, for tests.

#![allow(clippy::unwrap_used, reason = "only tests use it")]

use crate::assemble::{Estate, Input};
use crate::config::ValidEstateFile;
use trevlin_model::{Export, ExportId, LineClass};
use trevlin_readers::{Reading, Surroundings, recognise};

/// Device `a` has the address 10.4.0.1, and device `b` sends what it does not know there: they share a network.
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
    let readings: Vec<_> = exports
        .iter()
        .map(|export| {
            let own = folder(export.path());
            let around = Surroundings::of(exports.iter().filter(|one| folder(one.path()) == own).collect());
            let reader = recognise(export).reader;
            let reading = reader.map_or_else(
                || {
                    let mut reading = Reading::of(export);
                    reading.ledger.set(1, export.line_count(), LineClass::NotUnderstood);
                    reading
                },
                |reader| (reader.read)(export, &around),
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
    // Which checks there are is told by crates above.
    let known = |id: &str| Ok(&*Box::leak(id.to_owned().into_boxed_str()));
    Estate::assemble(inputs.collect(), &ValidEstateFile::parse(estate_file, &known).unwrap())
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
        "key-protected" "key-traditional-protected" "not-yet" "old-authority" "self-signed" "server" "short-key"
        "signed-with-pss-over-sha1" "signed-with-sha1" "wildcard")
}
