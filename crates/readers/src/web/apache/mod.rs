//! `apache2.conf`, `httpd.conf` and the files they read in (httpd.apache.org, "Configuration Sections", "Access Control").
//!
//! For a page the sections of folders count from the shortest path to the longest, then those of locations in their order; a later one
//! replaces the access rules, and adds to the options that have a sign. Sections of the main server for folders and locations apply to
//! every virtual host.

mod access;
mod loader;
mod main_server;
mod pages;
mod sites;
#[cfg(test)]
mod tests;

use crate::angles::{Directive, directives};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::serving::{self};
use loader::{Loader, included, waits};
use trevlin_model::{Export, Facts, LineClass};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "apache",
    title: "web server (Apache)",
    manual: "httpd.apache.org, documentation of directives",
    recognise,
    read,
};

fn recognise(export: &Export) -> Recognition {
    const TELLING: [&str; 9] = [
        "<virtualhost",
        "documentroot",
        "loadmodule",
        "<directory",
        "<location",
        "sslengine",
        "serverroot",
        "setenvif",
        "require",
    ];
    let path = export.path();
    let named = matches!(export.file_name(), "apache2.conf" | "httpd.conf")
        || path.contains("apache2/")
        || path.contains("httpd/conf");
    let tells = export.lines().take(TELLING_LINES).any(|line| {
        let word = line.text.split_whitespace().next().unwrap_or_default().to_ascii_lowercase();
        TELLING.contains(&word.as_str())
    });
    let listen =
        export.lines().any(|line| line.text.trim_start().to_ascii_lowercase().starts_with("listen "));
    match (tells || (listen && named), named) {
        (true, true) => Recognition::Content,
        (true, false) if export.text().to_ascii_lowercase().contains("<virtualhost") => Recognition::Content,
        (false, true) if path.ends_with(".conf") || path.ends_with(".load") => Recognition::Name,
        _ => Recognition::No,
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    if waits(export, around) {
        book.class(export.origin(0..export.text().len().max(1)), LineClass::Ignored);
        return reading;
    }
    let mut loader = Loader { around, modules: Vec::new(), defined: Vec::new(), open: Vec::new() };
    let tree = directives(export, &mut book);
    let all = loader.expand(tree, export, &mut vec![export.path()], &mut book);
    mask(export, &all, &mut reading.facts);
    if around.reads_in(export, included) {
        return reading;
    }
    let mut found = sites::servers(&all, &loader);
    if let Some((first, _)) = found.first_mut() {
        first.open.extend(loader.open);
    }
    for (served, relays) in found {
        reading.facts.served.push(served);
        reading.facts.relays.extend(relays);
    }
    reading
}

/// Logins in addresses of servers behind; those of other files are masked by them.
fn mask(export: &Export, all: &[Directive<'_>], facts: &mut Facts) {
    for one in all {
        one.words.iter().for_each(|word| serving::mask_login(export, facts, word));
        mask(export, one.children(), facts);
    }
}
