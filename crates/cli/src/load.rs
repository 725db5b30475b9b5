//! From paths to an estate: files are read and decoded, recognised, sorted into devices and read by their readers.
//!
//! Long because it is one path from file paths to an estate, each step passing on the input of the next.

use crate::args::Judging;
use crate::file::{File, LeftOut};
use crate::labels::{Label, drop_repeated_files, labels};
use crate::progress::Progress;
use crate::read::read;
use crate::verbosity::Verbosity;
use crate::walk::{self, Root};
use crate::{limits, links, manifest, messages, phrasebooks};
use anyhow::{Context, anyhow, bail};
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use tracing::debug_span;
use trevlin_audit::coverage::COLLECTION_LOG;
use trevlin_audit::{
    Analyses, Catalogue, ESTATE_FILE, Estate, Found, Input, LeftOutFile, SeveralInOne, ValidEstateFile,
    device_folders, several_in_one,
};
use trevlin_model::written::kept;
use trevlin_model::{Export, ExportId, Limit, Limits, LineClass, Note, Origin, SecretRecord, size};
use trevlin_readers::collecting::MANIFEST;
use trevlin_readers::scrub::{is_comment, is_prose, uncommented};
use trevlin_readers::{
    Phrasebook, ReadContext, Reader, Reading, Recognised, Shelf, announced, named, recognise,
};
use zeroize::{Zeroize, Zeroizing};

/// A file as text, not yet read.
struct Decoded {
    export: Export,
    folder: String,
    recognised: Recognised,
    /// The phrasebook that is for it, in place of a reader.
    book: Option<Arc<Phrasebook>>,
}

impl Decoded {
    fn reader(&self) -> Option<&'static Reader> {
        self.recognised.reader.filter(|_| self.book.is_none())
    }

    /// Name of its format.
    fn format(&self) -> Option<&'static str> {
        let of_book = self.book.as_ref().map(|book| kept(&book.name));
        of_book.or_else(|| self.reader().map(|reader| reader.name))
    }
}

/// Reads everything below the paths.
///
/// # Errors
/// When nothing could be read or recognised, or an estate file is not valid.
pub(crate) fn estate(paths: &[PathBuf], verbosity: Verbosity) -> anyhow::Result<Analyses> {
    begun_with(paths, verbosity, None)
}

/// The same with the requested baseline.
///
/// # Errors
/// As [`estate`], and when there is no such baseline.
pub(crate) fn judged(paths: &[PathBuf], verbosity: Verbosity, judging: &Judging) -> anyhow::Result<Analyses> {
    begun_with(paths, verbosity, judging.baseline.as_deref())
}

fn begun_with(paths: &[PathBuf], verbosity: Verbosity, baseline: Option<&str>) -> anyhow::Result<Analyses> {
    let mut gathered = debug_span!("finding and decoding files").in_scope(|| gather(paths, verbosity))?;
    if let Some(name) = baseline {
        gathered.file.baseline.begin_with(name)?;
    }
    let inputs = debug_span!("reading formats").in_scope(|| {
        read_all(gathered.decoded, &gathered.file, &gathered.unread, Unread::Forgotten, verbosity)
    });
    let mut estate = debug_span!("putting devices together")
        .in_scope(|| Estate::within(inputs, &gathered.file, limits::in_force()));
    estate.has_checksums = gathered.has_checksums;
    estate.catalogue_files = gathered.catalogues;
    let files: Vec<LeftOutFile> = gathered.left_out.iter().map(LeftOut::told).collect();
    if verbosity != Verbosity::Nothing {
        estate.left_out.iter().for_each(|one| messages::warning(&format!("{}: {}", one.path, one.why)));
        estate.unused_baselines.iter().for_each(|text| messages::warning(text));
        estate.mixed().iter().for_each(|text| messages::warning(text));
    }
    estate.left_out = files.into_iter().chain(std::mem::take(&mut estate.left_out)).collect();
    Ok(debug_span!("topology and addresses").in_scope(|| Analyses::of(estate)))
}

/// An estate with all other files beside its exports, to make a copy of.
pub(crate) struct Copied {
    pub(crate) estate: Estate,
    /// Estate files and phrasebooks, by path below the estate.
    pub(crate) beside: Vec<(String, String)>,
    /// Paths of exports that are links.
    pub(crate) links: BTreeSet<String>,
    /// Files that could not be read.
    pub(crate) left_out: Vec<LeftOut>,
    /// Secrets, and places that may contain one, in commented-out statements.
    pub(crate) commented: Vec<Arc<SecretRecord>>,
    pub(crate) commented_places: Vec<Origin>,
}

/// Reads everything below the paths to make a copy of it. Commented-out statements are read as well.
///
/// # Errors
/// As [`estate`].
pub(crate) fn to_copy(paths: &[PathBuf], verbosity: Verbosity) -> anyhow::Result<Copied> {
    let gathered = gather(paths, verbosity)?;
    let bare: Vec<String> = gathered.decoded.par_iter().map(|one| uncommented(one.export.text())).collect();
    let all = || gathered.decoded.iter().zip(&bare);
    // Where no file of a device has a comment, the second reading would be the first again.
    let commented_in: BTreeSet<&str> =
        all().filter(|(one, bare)| one.export.text() != *bare).map(|(one, _)| one.folder.as_str()).collect();
    let uncommented = all()
        .filter(|(one, _)| commented_in.contains(one.folder.as_str()))
        .map(|(one, bare)| {
            let export = &one.export;
            Decoded {
                export: Export::new(export.id(), export.path(), bare.clone()).within(export.shared_limits()),
                folder: one.folder.clone(),
                recognised: one.recognised.clone(),
                book: one.book.clone(),
            }
        })
        .collect();
    let (mut commented, mut commented_places) = (Vec::new(), Vec::new());
    for input in read_all(uncommented, &gathered.file, &gathered.unread, Unread::Kept, verbosity) {
        commented.extend(input.facts.secrets);
        commented_places.extend(input.facts.masked_places);
    }
    let estate = Estate::within(
        read_all(gathered.decoded, &gathered.file, &gathered.unread, Unread::Kept, verbosity),
        &gathered.file,
        limits::in_force(),
    );
    // Only what is said in comments alone: of all else the estate knows better what it is. A quote that prose opens closes at the
    // end of its line.
    let within = |origin: Origin| -> Option<(Origin, bool)> {
        let export = estate.export(origin.export);
        let line = export.line(export.line_of(origin.start)).filter(|line| is_comment(line.text))?;
        Some((Origin { end: origin.end.min(line.end()), ..origin }, is_prose(line.text)))
    };
    let mut places: Vec<Origin> = Vec::new();
    commented.retain(|one| {
        let Some((place, prose)) = within(one.origin) else { return false };
        let plain = one.secret.is_plain_word();
        // Prose reads as a statement now and then.
        if !prose || (!plain && place == one.origin) {
            places.push(place);
        }
        // A word of a sentence is replaced where it stands, and nowhere else.
        !prose && !plain && place == one.origin
    });
    let loose = commented_places.into_iter().filter_map(within).filter(|(_, prose)| !prose);
    let commented_places = places.into_iter().chain(loose.map(|(place, _)| place)).collect();
    Ok(Copied {
        estate,
        beside: gathered.beside,
        links: gathered.links,
        left_out: gathered.left_out,
        commented,
        commented_places,
    })
}

/// Everything below the paths as text, sorted into devices.
struct Gathered {
    decoded: Vec<Decoded>,
    file: ValidEstateFile,
    beside: Vec<(String, String)>,
    links: BTreeSet<String>,
    left_out: Vec<LeftOut>,
    unread: BTreeMap<String, Vec<String>>,
    /// Whether some file has checksums of others.
    has_checksums: bool,
    /// Catalogues of controls, by path below the estate.
    catalogues: Vec<(String, String)>,
}

fn gather(paths: &[PathBuf], verbosity: Verbosity) -> anyhow::Result<Gathered> {
    links::remember(paths);
    let limits = limits::in_force();
    let mut allowance = walk::Allowance::of(limits);
    let mut left_out = Vec::new();
    let mut seen = Vec::new();
    let mut roots: Vec<Root> = paths
        .iter()
        .filter(|path| {
            // The same path given twice is read once.
            let canonical = fs::canonicalize(path).ok();
            let again = canonical.is_some() && seen.contains(&canonical);
            seen.push(canonical);
            !again
        })
        .filter_map(|path| walk::walk(path, &mut allowance, &mut left_out))
        .collect();
    drop_repeated_files(&mut roots);
    let labels = labels(&roots);
    let mut file = ValidEstateFile::default();
    let (mut texts, mut beside, mut links) = (Vec::new(), Vec::new(), BTreeSet::new());
    for (root, label) in roots.iter().zip(labels) {
        let stated = root.files.iter().find(|one| root.folder && one.path == ESTATE_FILE);
        if let Some(stated) = stated {
            let (valid, text) = estate_file(stated)?;
            merge(&mut file, valid);
            beside.push((format!("{}{ESTATE_FILE}", label.prefix), text));
        }
        let files = root.files.par_iter().filter(|one| one.path != ESTATE_FILE || !root.folder);
        let progress = Progress::over("reading", root.files.len(), || root.size(), verbosity);
        let text = |one: &File| {
            let text = one.leads_to.clone().map_or_else(|| read(one, &limits), Ok);
            progress.done(text.as_ref().map_or(0, String::len));
            text
        };
        let read: Vec<_> = files.map(|one| (one, text(one))).collect();
        drop(progress);
        let (mut kept, mut unread) = (Vec::new(), root.unread.clone());
        for (one, outcome) in read {
            if one.leads_to.is_some() {
                links.insert(format!("{}{}", label.prefix, one.path));
            }
            match outcome {
                Ok(mut text) => {
                    let long = blank_long_lines(&mut text, &limits);
                    left_out.extend(long.into_iter().map(|(line, why)| LeftOut {
                        at: PathBuf::from(format!("{}:{line}", one.at.display())),
                        path: None,
                        why,
                    }));
                    kept.push((one.path.clone(), text));
                }
                Err(why) => {
                    unread.push(one.path.clone());
                    left_out.push(LeftOut { at: one.at.clone(), path: Some(one.path.clone()), why });
                }
            }
        }
        texts.push(Texts { root, label, files: kept, unread, has_estate_file: stated.is_some() });
    }
    let own = take_phrasebooks(&mut texts, verbosity, &mut beside);
    let catalogues = take_catalogues(&mut texts);
    beside.extend(catalogues.iter().cloned());
    let mut has_checksums = false;
    for one in texts.iter().filter(|one| one.files.iter().any(|(path, _)| is_manifest(path))) {
        has_checksums = true;
        if one.root.given.as_os_str() == walk::INPUT {
            manifest::keep_input(one.root);
        }
    }
    let mut books: Vec<_> = own.iter().map(|(_, book)| Arc::clone(book)).collect();
    books.extend(phrasebooks::of_the_user(verbosity));
    let (decoded, unread) = sort_into_devices(texts, &Shelf::of(books), verbosity, &mut left_out);
    tell_unused_phrasebooks(&own, &decoded, verbosity);
    // What configures nothing is not missing either.
    let bears = |one: &LeftOut| {
        verbosity == Verbosity::Everything
            || paths.contains(&one.at)
            || !trevlin_readers::bears_nothing(&one.at.to_string_lossy())
    };
    left_out.retain(bears);
    tell_what_was_left_out(&left_out, paths, verbosity);
    if decoded.is_empty() {
        bail!("nothing to audit: no file in {} could be read", list(paths));
    }
    tell_what_was_taken(&decoded, verbosity);
    if decoded.iter().all(|one| one.format().is_none()) {
        let formats: Vec<_> = trevlin_readers::READERS.iter().map(|reader| reader.title).collect();
        bail!(
            "nothing to audit: of {} in {}, none has a supported format. Supported are: {}. For other formats, create a \
             phrasebook (`trevlin phrasebook new`), or a device sheet (`trevlin sheet new`)",
            match decoded.len() {
                1 => "the file".to_owned(),
                count => format!("{count} files"),
            },
            list(paths),
            formats.join("; ")
        );
    }
    Ok(Gathered { decoded, file, beside, links, left_out, unread, has_checksums, catalogues })
}

/// Reports phrasebooks of the estate that recognise none of its files.
fn tell_unused_phrasebooks(own: &[(String, Arc<Phrasebook>)], decoded: &[Decoded], verbosity: Verbosity) {
    if verbosity == Verbosity::Nothing {
        return;
    }
    let is_used = |book: &Arc<Phrasebook>| {
        decoded.iter().filter_map(|one| one.book.as_ref()).any(|used| Arc::ptr_eq(used, book))
    };
    for (path, _) in own.iter().filter(|(_, book)| !is_used(book)) {
        messages::warning(&format!(
            "{path}: this phrasebook recognises no file of the estate; compare `[recognise]` with the export, and `trevlin \
             phrasebook try {path} EXPORT` with its statements"
        ));
    }
}

/// Reports skipped files. Many files with one reason are one message, unless all are requested.
fn tell_what_was_left_out(left_out: &[LeftOut], paths: &[PathBuf], verbosity: Verbosity) {
    // A missing path that was given by name is reported even without warnings.
    let told = left_out.iter().filter(|one| verbosity != Verbosity::Nothing || paths.contains(&one.at));
    let told: Vec<LeftOutFile> = told.map(LeftOut::told).collect();
    let (told, hint) = match verbosity {
        Verbosity::Everything => (told, ""),
        _ => (LeftOutFile::grouped(&told), " (-v lists them)"),
    };
    // Those that are told by their own path are listed already.
    let alone: BTreeSet<_> = left_out.iter().map(|file| file.at.to_string_lossy()).collect();
    for one in told {
        let hint = if alone.contains(one.path.as_str()) { "" } else { hint };
        messages::warning(&format!("{}: {}{hint}", one.path, one.why));
    }
}

fn list(paths: &[PathBuf]) -> String {
    paths.iter().map(|path| path.display().to_string()).collect::<Vec<_>>().join(", ")
}

fn estate_file(stated: &File) -> anyhow::Result<(ValidEstateFile, String)> {
    let shown = stated.at.display();
    let bytes = stated.read(&limits::in_force()).map_err(|why| anyhow!("{shown} cannot be read: {why}"))?;
    let text = String::from_utf8(bytes.to_vec()).with_context(|| format!("{shown} is not UTF-8"))?;
    let file = ValidEstateFile::parse(&text, &trevlin_audit::checks::known)
        .with_context(|| format!("{shown} is not a valid estate file"))?;
    Ok((file, text))
}

/// Adds the content of a further estate file.
fn merge(all: &mut ValidEstateFile, one: ValidEstateFile) {
    // Taken apart, so that no field is forgotten.
    let ValidEstateFile {
        organisation,
        networks,
        administrator_groups,
        devices,
        wanted,
        joined,
        apart,
        intents,
        accepts,
        answers,
        baseline,
        report,
        scope,
    } = one;
    all.organisation.extend(organisation);
    all.networks.extend(networks);
    all.administrator_groups.extend(administrator_groups);
    all.devices.extend(devices);
    all.wanted.sends = wanted.sends.or(all.wanted.sends);
    all.wanted.quantum_resistant |= wanted.quantum_resistant;
    all.wanted.accepts_logged |= wanted.accepts_logged;
    all.joined.extend(joined);
    all.apart.extend(apart);
    all.intents.extend(intents);
    all.accepts.extend(accepts);
    all.answers.extend(answers);
    all.baseline.add(baseline);
    all.report = std::mem::take(&mut all.report).with(report);
    all.scope = match (all.scope.take(), scope) {
        (Some(first), Some(second)) => Some(first.with(second)),
        (first, second) => first.or(second),
    };
}

/// Removes lines that exceed the limit, and returns them: the others keep their numbers.
fn blank_long_lines(text: &mut String, limits: &Limits) -> Vec<(usize, String)> {
    let most = limits.of(Limit::LineBytes);
    if text.len() <= most || text.split('\n').all(|line| line.len() <= most) {
        return Vec::new();
    }
    let mut told = Vec::new();
    let mut kept = Zeroizing::new(String::with_capacity(text.len()));
    for (number, line) in text.split('\n').enumerate() {
        if number > 0 {
            kept.push('\n');
        }
        if line.len() <= most {
            kept.push_str(line);
        } else {
            let (shown, remedy) = (size(most as u64), Limit::LineBytes.remedy());
            told.push((number + 1, format!("this line is longer than {shown} and was not read; {remedy}")));
        }
    }
    text.zeroize();
    text.push_str(&kept);
    told
}

/// The files of one path given, as text.
struct Texts<'a> {
    root: &'a Root,
    label: Label,
    files: Vec<(String, String)>,
    /// Paths of files that are not read.
    unread: Vec<String>,
    has_estate_file: bool,
}

/// Removes the phrasebooks from the files that were read, wherever they are. Errors of a phrasebook are reported, and the rest is used.
fn take_phrasebooks(
    texts: &mut [Texts<'_>],
    verbosity: Verbosity,
    beside: &mut Vec<(String, String)>,
) -> Vec<(String, Arc<Phrasebook>)> {
    let mut exports = Vec::new();
    for Texts { label, files, .. } in texts {
        files.retain_mut(|(path, text)| {
            let is_toml = Path::new(path).extension().is_some_and(|ending| ending == "toml");
            if !is_toml || !text.contains(trevlin_readers::BOOK) {
                return true;
            }
            let export = Export::new(ExportId(0), format!("{}{path}", label.prefix), std::mem::take(text));
            if !Phrasebook::is_one(&export) {
                *text = export.text().to_owned();
                return true;
            }
            exports.push(export);
            false
        });
    }
    let read: Vec<_> = exports.par_iter().with_max_len(1).map(Phrasebook::read).collect();
    let told = exports
        .iter()
        .zip(read)
        .map(|(export, read)| (export.path().to_owned(), phrasebooks::told(export, read, verbosity)));
    let books = told.collect();
    beside.extend(exports.iter().map(|export| (export.path().to_owned(), export.text().to_owned())));
    books
}

/// Removes the catalogues of controls from the files that were read, wherever they are.
fn take_catalogues(texts: &mut [Texts<'_>]) -> Vec<(String, String)> {
    let mut found = Vec::new();
    for Texts { label, files, .. } in texts {
        files.retain_mut(|(path, text)| {
            let is_toml = Path::new(path).extension().is_some_and(|ending| ending == "toml");
            let is_one = is_toml && Catalogue::is_one(text);
            if is_one {
                found.push((format!("{}{path}", label.prefix), std::mem::take(text)));
            }
            !is_one
        });
    }
    found
}

/// Whether a path is that of checksums.
fn is_manifest(path: &str) -> bool {
    path.rsplit('/').next() == Some(MANIFEST)
}

/// Files that one core is given at a time.
const AT_A_TIME: usize = 32;

/// Assigns every file to a device and every export a number. With the files that are not read, by device.
fn sort_into_devices(
    texts: Vec<Texts<'_>>,
    books: &Shelf<Arc<Phrasebook>>,
    verbosity: Verbosity,
    left_out: &mut Vec<LeftOut>,
) -> (Vec<Decoded>, BTreeMap<String, Vec<String>>) {
    let (mut decoded, mut not_read) = (Vec::new(), BTreeMap::<String, Vec<String>>::new());
    let limits = Arc::new(limits::in_force());
    for Texts { root, label, files, unread, has_estate_file } in texts {
        let bytes = || files.iter().map(|(_, text)| text.len() as u64).sum();
        let progress = Progress::over("finding out formats", files.len(), bytes, verbosity);
        let (exports, recognised): (Vec<_>, Vec<_>) = files
            .into_par_iter()
            .with_max_len(AT_A_TIME)
            .map(|(path, text)| {
                let export = Export::new(ExportId(0), format!("{}{path}", label.prefix), text);
                let export = export.within(Arc::clone(&limits));
                let known = recognise(&export);
                let book = phrasebooks::for_export(books, &export, &known);
                progress.done(export.text().len());
                ((path, export), (known, book))
            })
            .unzip();
        drop(progress);
        let mut found: Vec<_> = exports
            .iter()
            .zip(&recognised)
            .map(|((path, _), recognised)| Found {
                path,
                recognised: recognised.0.reader.is_some() || recognised.1.is_some(),
            })
            .collect();
        if has_estate_file {
            found.push(Found { path: ESTATE_FILE, recognised: false });
        }
        let folders: Vec<_> =
            if root.folder { device_folders(&found) } else { vec![Some(String::new()); exports.len()] };
        if root.folder && verbosity != Verbosity::Nothing {
            several_in_one(&found, &folders).iter().for_each(|one| tell_of_several(one, root));
        }
        let known: BTreeSet<String> = folders.iter().flatten().cloned().collect();
        let device = |folder: &str| {
            if folder.is_empty() { label.device.clone() } else { format!("{}{folder}", label.prefix) }
        };
        for path in unread {
            let above = path.rmatch_indices('/').map(|(at, _)| &path[..at]).chain([""]);
            if let Some(folder) = above.into_iter().find(|folder| known.contains(*folder)) {
                not_read.entry(device(folder)).or_default().push(format!("{}{path}", label.prefix));
            }
        }
        for (((path, export), (recognised, book)), folder) in exports.into_iter().zip(recognised).zip(folders)
        {
            let folder = match folder.as_deref() {
                Some(folder) => device(folder),
                // Checksums of all devices, which are no export of one.
                None if is_manifest(&path) => continue,
                None => {
                    let why = "it is beside the device folders and has no supported format; move it into the folder of its \
                               device";
                    left_out.push(LeftOut { at: root.given.join(path), path: None, why: why.into() });
                    continue;
                }
            };
            decoded.push(Decoded { export, folder, recognised, book });
        }
    }
    decoded.sort_by(|a, b| (a.export.path(), &a.folder).cmp(&(b.export.path(), &b.folder)));
    for (number, one) in decoded.iter_mut().enumerate() {
        one.export.renumber(ExportId(number as u32));
    }
    by_name(&mut decoded);
    (decoded, not_read)
}

/// Assigns readers to files that only the configuration of their device identifies.
fn by_name(decoded: &mut [Decoded]) {
    let mut devices: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
    for (at, one) in decoded.iter().enumerate() {
        devices.entry(&one.folder).or_default().push(at);
    }
    let mut found = Vec::new();
    for numbers in devices.values() {
        // A phrasebook decides about its files.
        let own: Vec<_> = numbers.iter().filter(|at| decoded[**at].book.is_none()).copied().collect();
        let exports: Vec<_> =
            own.iter().map(|at| (&decoded[*at].export, decoded[*at].recognised.reader)).collect();
        found.extend(named(&exports).into_iter().map(|(at, reader)| (own[at], reader)));
    }
    for (at, reader) in found {
        decoded[at].recognised.reader = Some(reader);
    }
}

/// Reported before analysis: as one device a whole estate gives meaningless results, and takes long.
fn tell_of_several(one: &SeveralInOne<'_>, root: &Root) {
    let since = one.beside.map_or_else(String::new, |file| format!(", because {file} is at its top"));
    let [first, second] = one.devices;
    let folder = if one.folder.is_empty() { root.given.clone() } else { root.given.join(&one.folder) };
    messages::warning(&format!(
        "{}: read as one device{since}; {first} and {second} appear to be two. If so, create an estate file ({ESTATE_FILE}) \
         at the top, or name the folders separately",
        folder.display()
    ));
}

fn tell_what_was_taken(decoded: &[Decoded], verbosity: Verbosity) {
    for one in decoded {
        let path = one.export.path();
        let also = &one.recognised.also;
        if !also.is_empty() && verbosity != Verbosity::Nothing {
            let names: Vec<_> = also.iter().map(|reader| reader.name).collect();
            messages::warning(&format!("{path}: may also be {}", names.join(" or ")));
        }
        if verbosity == Verbosity::Everything {
            if let Some(book) = &one.book {
                messages::note(&format!(
                    "{path}: {} (phrasebook {}), device {}",
                    book.name, book.path, one.folder
                ));
                continue;
            }
            match one.reader() {
                Some(reader) => messages::note(&format!(
                    "{path}: {} ({}), device {}",
                    reader.title, reader.name, one.folder
                )),
                None => messages::note(&format!("{path}: unsupported format, device {}", one.folder)),
            }
        }
    }
}

/// Handling of texts without a reader.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Unread {
    /// They are wiped as soon as their device was read, since no output quotes them.
    Forgotten,
    /// They are copied like the others.
    Kept,
}

/// Lets the readers read, each export with the others of its device at hand.
fn read_all(
    decoded: Vec<Decoded>,
    file: &ValidEstateFile,
    not_read: &BTreeMap<String, Vec<String>>,
    unread: Unread,
    verbosity: Verbosity,
) -> Vec<Input> {
    let bytes = || decoded.iter().map(|one| one.export.text().len() as u64).sum();
    let progress = Progress::over("taking in", decoded.len(), bytes, verbosity);
    let mut by_folder: BTreeMap<String, Vec<(usize, Decoded)>> = BTreeMap::new();
    for (at, one) in decoded.into_iter().enumerate() {
        by_folder.entry(one.folder.clone()).or_default().push((at, one));
    }
    // The largest first: memory used for reading them is reused for the facts of the others, and no large one is begun last.
    let mut devices: Vec<Vec<(usize, Decoded)>> = by_folder.into_values().collect();
    let largest =
        |device: &Vec<(usize, Decoded)>| device.iter().map(|(_, one)| one.export.text().len()).max();
    devices.sort_by_key(|device| std::cmp::Reverse(largest(device)));
    let read = |device| read_device(device, file, not_read, unread, &progress);
    let mut inputs: Vec<(usize, Input)> = devices.into_par_iter().with_max_len(1).flat_map(read).collect();
    inputs.sort_unstable_by_key(|(at, _)| *at);
    inputs.into_iter().map(|(_, input)| input).collect()
}

/// The same for one device.
fn read_device(
    mut device: Vec<(usize, Decoded)>,
    file: &ValidEstateFile,
    not_read: &BTreeMap<String, Vec<String>>,
    unread: Unread,
    progress: &Progress,
) -> Vec<(usize, Input)> {
    let exports: Vec<&Export> = device.iter().map(|(_, one)| &one.export).collect();
    let ike = device.first().and_then(|(_, one)| file.ike_of(&one.folder));
    // A copy raises no requests.
    let strange = |one: &Decoded| {
        one.recognised.reader.is_none()
            && !trevlin_readers::is_copy(&one.export)
            && !trevlin_readers::is_idle(&one.export)
    };
    let of_no_format =
        device.iter().filter(|(_, one)| strange(one)).map(|(_, one)| one.export.id()).collect();
    let lying_there =
        device.first().and_then(|(_, one)| not_read.get(&one.folder)).cloned().unwrap_or_default();
    let context =
        ReadContext::with_ike_daemon(exports, ike).of_no_format(of_no_format).with_unread(lying_there);
    let together = read_together(&device);
    let taken = |one: &Decoded| together.get(&one.export.id())?.lock().ok()?.take();
    let read = |one: &Decoded| match (&one.book, one.reader()) {
        (Some(book), _) => {
            taken(one).unwrap_or_else(|| whatever_happens(&one.export, || book.read_export(&one.export)))
        }
        (None, Some(reader)) => {
            whatever_happens(&one.export, || trevlin_readers::read(reader, &one.export, &context))
        }
        (None, None) => self::unread(&one.export),
    };
    let mut order: Vec<usize> = (0..device.len()).collect();
    order.sort_by_key(|at| std::cmp::Reverse(device[*at].1.export.text().len()));
    let read_on = |at: usize| {
        let mut reading = read(&device[at].1);
        let one = &device[at].1;
        let kept = one.reader().is_none_or(|reader| {
            trevlin_readers::coheres(reader, &one.export, &reading, one.recognised.declared)
        });
        if !kept {
            reading = self::unread(&one.export);
        }
        if kept && device[at].1.format().is_some() || unread == Unread::Kept {
            announced::add(&device[at].1.export, &mut reading.facts);
        }
        progress.done(device[at].1.export.text().len());
        // A copy has no room left over in any of its lists.
        reading.facts = reading.facts.clone();
        reading.ledger = reading.ledger.clone();
        (at, reading, kept)
    };
    let mut readings: Vec<(usize, Reading, bool)> =
        order.into_par_iter().with_max_len(1).map(read_on).collect();
    readings.sort_unstable_by_key(|(at, ..)| *at);
    drop(context);
    // One sign alone may be a coincidence: what is not understood as a whole is of no known format.
    for (at, _, kept) in &readings {
        if !kept {
            device[*at].1.recognised = Recognised::default();
        }
    }
    let readings: Vec<(usize, Reading)> =
        readings.into_iter().map(|(at, reading, _)| (at, reading)).collect();
    // A file without a format of its own may have been read by another's reader: included, or named for a secret.
    let mut touched: BTreeMap<ExportId, (&'static str, Places)> = BTreeMap::new();
    for ((_, one), (_, reading)) in device.iter().zip(&readings) {
        for (origin, class) in &reading.elsewhere {
            let reader = one.reader().map_or("unknown", |reader| reader.name);
            touched.entry(origin.export).or_insert((reader, Vec::new())).1.push((*origin, *class));
        }
    }
    let input = |((number, mut one), (_, reading)): ((usize, Decoded), (usize, Reading))| {
        let (reading, format) = match (one.format(), touched.get(&one.export.id())) {
            (None, Some((format, places))) => {
                let mut reading = read_by_another(&one.export, places);
                announced::add(&one.export, &mut reading.facts);
                (reading, Some(*format))
            }
            (format, _) => (reading, format),
        };
        let forgotten = format.is_none() && one.export.file_name() != COLLECTION_LOG;
        if forgotten && unread == Unread::Forgotten {
            one.export.forget_text();
        }
        let (facts, ledger) = (reading.facts, reading.ledger);
        (number, Input { export: one.export, folder: one.folder, format, facts, ledger })
    };
    device.into_iter().zip(readings).map(input).collect()
}

/// Readings of the exports of one device that phrasebooks are for, where there are several: names that one defines are known to all.
fn read_together(device: &[(usize, Decoded)]) -> BTreeMap<ExportId, Mutex<Option<Reading>>> {
    let of_books: Vec<(&Phrasebook, &Export)> =
        device.iter().filter_map(|(_, one)| Some((&**one.book.as_ref()?, &one.export))).collect();
    if of_books.len() < 2 {
        return BTreeMap::new();
    }
    let read = || Phrasebook::read_together(&of_books);
    // After an internal error each is read by itself, and the error is reported.
    let readings = std::panic::catch_unwind(std::panic::AssertUnwindSafe(read)).unwrap_or_default();
    let ids = of_books.iter().map(|(_, export)| export.id());
    ids.zip(readings.into_iter().map(|reading| Mutex::new(Some(reading)))).collect()
}

/// A reading that survives an internal error of a reader: the other files are still read, and the error is reported.
fn whatever_happens(export: &Export, read: impl FnOnce() -> Reading) -> Reading {
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(read)).unwrap_or_else(|_| {
        let mut reading = Reading::of(export);
        reading.ledger.set(1, export.line_count(), LineClass::NotUnderstood);
        let (origin, text) = (export.origin(0..0), "an internal error of Trevlin: this file was not read");
        reading.ledger.notes.push(Note { origin, text: text.into() });
        reading.ledger.faults.push(text.into());
        reading
    })
}

/// Places of a file, with what became of them.
type Places = Vec<(Origin, LineClass)>;

/// A ledger from what another's reader made of the file; lines it did not look at have no bearing.
fn read_by_another(export: &Export, places: &[(Origin, LineClass)]) -> Reading {
    let mut reading = Reading::of(export);
    for (place, class) in places {
        let last = place.end.max(place.start + 1) - 1;
        reading.ledger.set(export.line_of(place.start), export.line_of(last), *class);
    }
    reading
}

/// Every line of a file without a reader is not understood, unless its path shows that it has no bearing.
fn unread(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    if trevlin_readers::is_idle(export) {
        return reading;
    }
    reading.ledger.set(1, export.line_count(), LineClass::NotUnderstood);
    if trevlin_readers::is_copy(export) {
        let text = "its name marks a copy that no daemon reads, so it was not judged; secrets in it may still be in use";
        reading.ledger.notes.push(Note { origin: export.origin(0..0), text: text.into() });
    }
    reading
}
