//! Manual pages, made from the arguments. They lie in `docs/man`, so that a package can take them from there.

use super::Arguments;
use clap::{Command, CommandFactory};
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

/// Pages of a command and those below it, by file name.
fn pages(command: &Command, name: &str, into: &mut BTreeMap<String, Vec<u8>>) {
    let named = command.clone().version(env!("CARGO_PKG_VERSION"));
    // Without a date: it would tell when the pages were made, not what they are about.
    let page = clap_mangen::Man::new(named).date("").source("Trevlin").manual("Trevlin manual");
    let mut text = Vec::new();
    page.render(&mut text).expect("written");
    into.insert(format!("{name}.1"), text);
    for one in command.get_subcommands().filter(|one| one.get_name() != "help") {
        pages(one, &format!("{name}-{}", one.get_name()), into);
    }
}

#[test]
#[allow(clippy::disallowed_methods, reason = "a switch for the developer")]
fn manual_pages_are_those_of_the_program() {
    let mut command = Arguments::command();
    command.build();
    let mut wanted = BTreeMap::new();
    pages(&command, "trevlin", &mut wanted);
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/man");
    if std::env::var_os("TREVLIN_UPDATE_README").is_some() {
        let _ = fs::remove_dir_all(&folder);
        fs::create_dir_all(&folder).expect("made");
        for (name, text) in &wanted {
            fs::write(folder.join(name), text).expect("written");
        }
    }
    let found: BTreeMap<String, Vec<u8>> = fs::read_dir(&folder)
        .expect("docs/man")
        .flatten()
        .map(|entry| {
            (entry.file_name().to_string_lossy().into_owned(), fs::read(entry.path()).expect("read"))
        })
        .collect();
    assert!(found == wanted, "docs/man is stale: run the tests with TREVLIN_UPDATE_README=1");
}
