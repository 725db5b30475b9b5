//! Places in the output as links, in terminals that open them: `path:line` leads to the file that was read.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

/// Paths given on the command line: messages name places by their path below it.
static GIVEN: Mutex<Vec<PathBuf>> = Mutex::new(Vec::new());

/// Records the given paths, for messages about files.
pub(crate) fn remember(paths: &[PathBuf]) {
    if let Ok(mut given) = GIVEN.lock() {
        given.extend(paths.iter().filter_map(|path| fs::canonicalize(path).ok()));
    }
}

/// A writer that turns places into links where standard output supports them.
pub(crate) struct Linked<W: Write> {
    out: W,
    /// The last line, as long as it has no end.
    line: Vec<u8>,
    /// Location of each file, by the path in messages. `None` where there are no links.
    found: Option<BTreeMap<String, Option<PathBuf>>>,
}

impl<W: Write> Linked<W> {
    /// As standard output is.
    pub(crate) fn over(out: W) -> Self {
        let takes = supports_hyperlinks::on(supports_hyperlinks::Stream::Stdout);
        Self { out, line: Vec::new(), found: takes.then(BTreeMap::new) }
    }

    fn line(&mut self) -> io::Result<()> {
        let line = std::mem::take(&mut self.line);
        match (std::str::from_utf8(&line), &mut self.found) {
            (Ok(text), Some(found)) => {
                let locate =
                    |path: &str| found.entry(path.to_owned()).or_insert_with(|| located(path)).clone();
                self.out.write_all(linked(text, locate).as_bytes())
            }
            _ => self.out.write_all(&line),
        }
    }
}

impl<W: Write> Write for Linked<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.found.is_none() {
            return self.out.write(bytes);
        }
        for part in bytes.split_inclusive(|byte| *byte == b'\n') {
            self.line.extend_from_slice(part);
            if part.ends_with(b"\n") {
                self.line()?;
            }
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.line()?;
        self.out.flush()
    }
}

/// The file that a path in a message refers to. The first part is the name of a given folder where there are several.
fn located(path: &str) -> Option<PathBuf> {
    let given = GIVEN.lock().ok()?;
    let below = |root: &PathBuf| root.join(path);
    let beside = |root: &PathBuf| root.parent().map(|parent| parent.join(path));
    let all = given.iter().map(below).chain(given.iter().filter_map(beside));
    all.filter(|at| given.iter().any(|root| at.starts_with(root))).find(|at| at.is_file())
}

/// A line in which each place, `path:line`, leads to its file.
fn linked(line: &str, mut locate: impl FnMut(&str) -> Option<PathBuf>) -> String {
    let mut out = String::with_capacity(line.len());
    let mut rest = line;
    // Words end at blanks and at what changes colours.
    while let Some(start) = rest.find(|letter: char| !letter.is_whitespace() && letter != '\u{1b}') {
        let (before, after) = rest.split_at(start);
        out.push_str(before);
        if before.ends_with('\u{1b}') {
            let end = after.find('m').map_or(after.len(), |at| at + 1);
            out.push_str(&after[..end]);
            rest = &after[end..];
            continue;
        }
        let end = after.find(|letter: char| letter.is_whitespace() || letter == '\u{1b}');
        let (word, after) = after.split_at(end.unwrap_or(after.len()));
        rest = after;
        let place = word.trim_end_matches([',', ')', ';', '.']);
        let target = place
            .rsplit_once(':')
            .filter(|(path, number)| !path.is_empty() && number.parse::<u32>().is_ok())
            .and_then(|(path, number)| Some((locate(path)?, number)));
        match target {
            Some((at, number)) => {
                // OSC 8 with an address as of RFC 8089.
                let address = address(&at);
                let tail = &word[place.len()..];
                let _ = write!(out, "\u{1b}]8;;{address}#{number}\u{1b}\\{place}\u{1b}]8;;\u{1b}\\{tail}");
            }
            None => out.push_str(word),
        }
    }
    out + rest
}

/// The address of a file (RFC 8089), with everything but plain letters as codes (RFC 3986).
fn address(at: &Path) -> String {
    let mut out = "file://".to_owned();
    for byte in at.to_string_lossy().bytes() {
        if byte.is_ascii_alphanumeric() || b"/-._~".contains(&byte) {
            out.push(char::from(byte));
        } else {
            let _ = write!(out, "%{byte:02X}");
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_become_links_and_nothing_else_does() {
        let link = |path: &str, number: u32, shown: &str| {
            format!("\u{1b}]8;;file:///x/{path}#{number}\u{1b}\\{shown}\u{1b}]8;;\u{1b}\\")
        };
        let locate = |path: &str| path.contains("conf").then(|| Path::new("/x").join(path));
        for (line, wanted) in [
            ("", String::new()),
            ("  no place here: 12\n", "  no place here: 12\n".into()),
            ("high  a/b.conf:3  t\n", format!("high  {}  t\n", link("a/b.conf", 3, "a/b.conf:3"))),
            ("(see b.conf:3).", format!("(see {}).", link("b.conf", 3, "b.conf:3"))),
            (
                "\u{1b}[36mb.conf:3\u{1b}[0m x",
                format!("\u{1b}[36m{}\u{1b}[0m x", link("b.conf", 3, "b.conf:3")),
            ),
            // Several lines of one file: the first is led to.
            ("b.conf:3, 5", format!("{}, 5", link("b.conf", 3, "b.conf:3"))),
            ("ö b.conf:x b.txt:3 :4", "ö b.conf:x b.txt:3 :4".into()),
            ("å b.conf:3", format!("å {}", link("b.conf", 3, "b.conf:3"))),
        ] {
            assert_eq!(linked(line, locate), wanted, "{line:?}");
        }
        assert_eq!(address(Path::new("/a b/ø;?#.conf")), "file:///a%20b/%C3%B8%3B%3F%23.conf");
    }
}
