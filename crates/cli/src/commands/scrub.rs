//! The scrub command.

use crate::args::{self, Common};
use crate::context::{print, verbosity};
use crate::load::{self, Copied};
use crate::output::{self, NewFolder};
use anyhow::{Context, bail};
use rayon::prelude::*;
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Component, Path, PathBuf};
use std::process::ExitCode;
use trevlin_audit::{Estate, people_and_devices};
use trevlin_model::LineClass;
use trevlin_model::secret::{ScrubKey, Scrubber};
use trevlin_readers::scrub::{AddressMap, NameMap, comment, suspects};
use trevlin_render::sanitize;

/// Words that mean the same in every format, so that a device or a person of that name keeps it.
const COMMON: [&str; 34] = [
    "root",
    "nobody",
    "admin",
    "administrator",
    "default",
    "local",
    "localhost",
    "any",
    "all",
    "host",
    "server",
    "client",
    "router",
    "gateway",
    "firewall",
    "storage",
    "user",
    "users",
    "group",
    "vpn",
    "wan",
    "lan",
    "dmz",
    "inside",
    "outside",
    "network",
    "public",
    "private",
    "remote",
    "radius",
    "proxy",
    "mail",
    "web",
    "example",
];

/// Lines shown for a look before the rest is only counted.
const SHOWN: usize = 40;

/// Runs the command.
///
/// # Errors
/// When the estate cannot be read, or the copy would lie among the exports, over something, or cannot be written.
pub(crate) fn run(arguments: &args::Scrub, common: &Common) -> anyhow::Result<ExitCode> {
    may_write(arguments)?;
    let (key, known) = key(arguments.key.as_deref())?;
    let copied = load::to_copy(&arguments.paths, verbosity(common))?;
    let work = Work::new(&copied, key, arguments);
    let mut told = Told::default();
    let mut paths = Paths::default();
    let mut files: Vec<(PathBuf, Made)> = Vec::new();
    for record in &copied.estate.exports {
        let path = record.export.path();
        if copied.links.contains(path) {
            let made = Made::Link(work.rest(record.export.text()));
            files.push((paths.of(path, &work.path(path)?, &mut told.renamed), made));
            continue;
        }
        if record.format.is_none() && !arguments.with_unread {
            told.unread.push(path.to_owned());
            continue;
        }
        let (text, count) = work.scrubber.scrub(record.export.id(), record.export.text());
        told.replaced += count;
        let mut out = String::with_capacity(text.len());
        for (number, line) in (1u32..).zip(text.split_inclusive('\n')) {
            let unknown = record.ledger.class(number) == Some(LineClass::NotUnderstood);
            let doubtful = if unknown { Some(0..line.len()) } else { comment(line) };
            let line = match doubtful {
                Some(part) => {
                    let made = work.doubtful(&line[part.clone()], &mut told.replaced);
                    format!("{}{made}{}", &line[..part.start], &line[part.end..])
                }
                None => line.to_owned(),
            };
            let line = work.rest(&line);
            if unknown && !line.trim().is_empty() {
                told.doubtful.push(format!("{}:{number}: {}", work.rest(path), sanitize(line.trim())));
            }
            out.push_str(&line);
        }
        if arguments.names && text.contains("-----BEGIN CERTIFICATE-----") {
            told.certificates.push(work.rest(path));
        }
        let at = paths.of(path, &work.path(path)?, &mut told.renamed);
        work.tell_what_is_left(&at, &out, &mut told.left);
        files.push((at, Made::Text(out)));
    }
    for (path, text) in &copied.beside {
        let (text, count) = work.scrubber.scrub(trevlin_model::ExportId(u32::MAX), text);
        told.replaced += count;
        let (at, text) = (paths.of(path, &work.path(path)?, &mut told.renamed), work.rest(&text));
        work.tell_what_is_left(&at, &text, &mut told.left);
        files.push((at, Made::Text(text)));
    }
    told.left_out = copied.left_out.iter().map(|one| format!("{}: {}", one.at.display(), one.why)).collect();
    told.files = files.len();
    // Links come last: nothing is written through one.
    let (links, texts): (Vec<_>, Vec<_>) =
        files.into_iter().partition(|(_, made)| matches!(made, Made::Link(_)));
    let mut copy = NewFolder::begin(&arguments.into)?;
    for (path, made) in texts.into_iter().chain(links) {
        write(&copy.place(&path)?, &made)?;
    }
    copy.finish()?;
    if let Some(file) = &arguments.key {
        keep(file, &known, &work)?;
    }
    print(|out| told.write(arguments, common.is_verbose(), out))?;
    Ok(ExitCode::SUCCESS)
}

/// The copy goes into a folder of its own.
fn may_write(arguments: &args::Scrub) -> anyhow::Result<()> {
    let into = &arguments.into;
    if !output::is_free(into) && !arguments.force {
        bail!("{} already exists; name another folder, or use --force to write into it", into.display());
    }
    if let Some(path) = output::among(into, &arguments.paths) {
        bail!(
            "{} is inside {}, which is copied; name a folder outside of it",
            into.display(),
            path.display()
        );
    }
    let key_inside = arguments.key.as_deref().is_some_and(|key| {
        let folder = fs::canonicalize(output::folder(key)).ok();
        folder.zip(fs::canonicalize(into).ok()).is_some_and(|(key, into)| key.starts_with(into))
            || key.starts_with(into)
    });
    if key_inside {
        bail!("the key file would be part of the copy; keep it elsewhere");
    }
    // One of an earlier run may lie where it does.
    if let Some(key) = arguments.key.as_deref().filter(|key| !key.exists()) {
        output::may_write(key, "key", &arguments.paths, arguments.force)?;
    }
    Ok(())
}

/// The schema of key files.
const SCHEMA: &str = "trevlin-scrub-key/1";

/// The key for stand-ins: that of an earlier run where its key file is given, otherwise a new one.
fn key(file: Option<&Path>) -> anyhow::Result<(ScrubKey, String)> {
    let from = |digits: &str| -> Option<[u8; 32]> {
        let bytes: Option<Vec<u8>> = (0..digits.len() / 2)
            .map(|at| u8::from_str_radix(digits.get(2 * at..2 * at + 2)?, 16).ok())
            .collect();
        bytes?.try_into().ok()
    };
    if let Some(file) = file.filter(|file| file.exists()) {
        let text = fs::read_to_string(file).with_context(|| format!("{} cannot be read", file.display()))?;
        let whole: serde_json::Value = serde_json::from_str(&text).unwrap_or_default();
        let digits = whole["seed"].as_str().unwrap_or_default();
        return match from(digits) {
            Some(bytes) if whole["schema"] == SCHEMA => Ok((ScrubKey::new(bytes), digits.to_owned())),
            _ => bail!(
                "{} is not a key file of `trevlin scrub`; name another file to create one",
                file.display()
            ),
        };
    }
    let mut bytes = [0; 32];
    getrandom::fill(&mut bytes)
        .map_err(|error| anyhow::anyhow!("the system provides no random numbers: {error}"))?;
    let digits = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    Ok((ScrubKey::new(bytes), digits))
}

/// Writes the mapping of replacements, readable by the owner only.
fn keep(file: &Path, seed: &str, work: &Work) -> anyhow::Result<()> {
    let addresses: BTreeMap<String, String> = work
        .addresses
        .iter()
        .flat_map(AddressMap::done)
        .map(|(from, to)| (from.to_string(), to.to_string()))
        .collect();
    let names = work.names.as_ref().map(NameMap::done);
    let whole = serde_json::json!({ "schema": SCHEMA, "seed": seed, "addresses": addresses, "names": names });
    output::replace(file, format!("{whole:#}\n").as_bytes())
}

/// Replacements made in a text.
struct Work {
    scrubber: Scrubber,
    addresses: Option<AddressMap>,
    names: Option<NameMap>,
}

impl Work {
    fn new(copied: &Copied, key: ScrubKey, arguments: &args::Scrub) -> Self {
        let estate: &Estate = &copied.estate;
        let facts = || estate.devices.iter().map(|device| &device.facts);
        let held = || facts().flat_map(trevlin_model::Facts::to_mask).chain(&copied.commented);
        held().collect::<Vec<_>>().into_par_iter().for_each(|one| key.prepare(one));
        let places: Vec<_> =
            facts().flat_map(|facts| &facts.masked_places).chain(&copied.commented_places).copied().collect();
        Self {
            scrubber: Scrubber::new(key.clone(), held(), &places),
            addresses: arguments.addresses.then(|| AddressMap::new(key)),
            names: arguments.names.then(|| {
                let of_exports = estate.exports.iter().flat_map(|one| [one.export.path(), one.export.text()]);
                let of_others = copied.beside.iter().flat_map(|(path, text)| [path.as_str(), text]);
                NameMap::new(&people_and_devices(estate), &COMMON, of_exports.chain(of_others))
            }),
        }
    }

    /// Addresses and names, as far as their replacement is requested.
    fn rest(&self, text: &str) -> String {
        let text = self.names.as_ref().map_or(Cow::Borrowed(text), |names| names.map_text(text).into());
        self.addresses.as_ref().map(|map| map.map_text(&text)).unwrap_or_else(|| text.into_owned())
    }

    /// A line that was not understood, with everything replaced that may be a secret.
    fn doubtful(&self, line: &str, count: &mut usize) -> String {
        let mut out = String::with_capacity(line.len());
        let mut at = 0;
        for word in suspects(line).into_iter().filter(|word| !line[word.clone()].starts_with("scrubbed-")) {
            if word.start < at {
                continue;
            }
            out.push_str(&line[at..word.start]);
            out.push_str(&self.scrubber.unknown(&line[word.clone()]));
            *count += 1;
            at = word.end;
        }
        out.push_str(&line[at..]);
        out
    }

    /// Lists where a name of the organisation is left in a file of the copy, and in its path.
    fn tell_what_is_left(&self, at: &Path, text: &str, left: &mut Vec<String>) {
        let Some(names) = &self.names else { return };
        let shown = at.to_string_lossy();
        let in_path = names.left(&shown);
        left.extend(in_path.iter().map(|name| format!("{shown}: {name}, in the path")));
        for (number, line) in (1..).zip(text.lines()) {
            let found = names.left(line);
            if !found.is_empty() {
                left.push(format!("{shown}:{number}: {}", found.join(", ")));
            }
        }
    }

    /// Where a file goes below the copy's folder.
    fn path(&self, path: &str) -> anyhow::Result<PathBuf> {
        let mapped = PathBuf::from(self.rest(path).trim_start_matches('/'));
        if mapped.components().any(|part| !matches!(part, Component::Normal(_) | Component::CurDir)) {
            bail!("{} points outside its folder", sanitize(path));
        }
        Ok(mapped)
    }
}

/// Paths of the copy: distinct names stay distinct.
#[derive(Default)]
struct Paths {
    /// Names of the estate's folders in the copy, by path in the estate.
    folders: BTreeMap<PathBuf, PathBuf>,
    /// Files and folders of the copy.
    taken: BTreeSet<PathBuf>,
}

impl Paths {
    /// Destination of the file `mapped`. A destination that is already taken gets a number, which is reported.
    fn of(&mut self, path: &str, mapped: &Path, renamed: &mut Vec<String>) -> PathBuf {
        let original = path.trim_start_matches('/');
        let (mut from, mut to) = (PathBuf::new(), PathBuf::new());
        let parts: Vec<_> = mapped.components().filter(|one| matches!(one, Component::Normal(_))).collect();
        let names: Vec<&str> = original.split('/').filter(|one| !one.is_empty() && *one != ".").collect();
        let last = parts.len().saturating_sub(1);
        for (at, part) in parts.iter().enumerate() {
            from.push(names.get(at).copied().unwrap_or_default());
            let wanted = to.join(part);
            if at == last {
                return self.free(wanted, original, renamed);
            }
            to = match self.folders.get(&from) {
                Some(known) => known.clone(),
                None => {
                    let free = self.free(wanted, &from.to_string_lossy(), renamed);
                    self.folders.insert(from.clone(), free.clone());
                    free
                }
            };
        }
        to
    }

    /// An unused path.
    fn free(&mut self, wanted: PathBuf, original: &str, renamed: &mut Vec<String>) -> PathBuf {
        if self.taken.insert(wanted.clone()) {
            return wanted;
        }
        let name = wanted.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let (stem, ending) = match name.rsplit_once('.') {
            Some((stem, ending)) if !stem.is_empty() => (stem, format!(".{ending}")),
            _ => (name.as_str(), String::new()),
        };
        let numbered = (2..).map(|number| wanted.with_file_name(format!("{stem}-{number}{ending}")));
        let free =
            numbered.into_iter().find(|one| self.taken.insert((*one).clone())).unwrap_or(wanted.clone());
        renamed.push(format!(
            "{original} is {}: {} belongs to another organisation",
            free.display(),
            wanted.display()
        ));
        free
    }
}

enum Made {
    Text(String),
    Link(String),
}

fn write(at: &Path, made: &Made) -> anyhow::Result<()> {
    match made {
        Made::Text(text) => output::replace(at, text.as_bytes()),
        #[cfg(unix)]
        Made::Link(target) => {
            if at.is_symlink() {
                fs::remove_file(at).with_context(|| format!("{} cannot be replaced", at.display()))?;
            }
            std::os::unix::fs::symlink(target, at)
                .with_context(|| format!("{} cannot be created", at.display()))
        }
        #[cfg(not(unix))]
        Made::Link(_) => Ok(()),
    }
}

/// The final message.
#[derive(Default)]
struct Told {
    files: usize,
    replaced: usize,
    doubtful: Vec<String>,
    unread: Vec<String>,
    certificates: Vec<String>,
    renamed: Vec<String>,
    left: Vec<String>,
    left_out: Vec<String>,
}

impl Told {
    fn write(&self, arguments: &args::Scrub, all: bool, out: &mut dyn std::io::Write) -> std::io::Result<()> {
        writeln!(
            out,
            "{} in {}: {} secrets replaced{}{}",
            if self.files == 1 { "1 file".to_owned() } else { format!("{} files", self.files) },
            arguments.into.display(),
            self.replaced,
            if arguments.addresses { ", addresses replaced" } else { "" },
            if arguments.names { ", names replaced" } else { "" },
        )?;
        for (title, lines) in [
            (
                "Not understood; apparent secrets are replaced, review the other lines before sharing the copy",
                &self.doubtful,
            ),
            ("Not copied, in unsupported formats (--with-unread copies them)", &self.unread),
            ("Certificates, which contain names and are unchanged", &self.certificates),
            ("Remaining names of the organisation; replace them before sharing the copy", &self.left),
            ("Renamed, because two files would have the same name", &self.renamed),
            ("Not copied", &self.left_out),
        ] {
            if lines.is_empty() {
                continue;
            }
            let shown = if all { lines.len() } else { SHOWN.min(lines.len()) };
            writeln!(out, "\n{title}:")?;
            for line in &lines[..shown] {
                writeln!(out, "  {}", sanitize(line))?;
            }
            if shown < lines.len() {
                writeln!(out, "  and {} more (-v lists them)", lines.len() - shown)?;
            }
        }
        Ok(())
    }
}
