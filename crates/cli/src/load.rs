//! From paths to an estate: files are read and decoded, recognised, sorted into devices and read by their readers.

use crate::messages;
use crate::walk::{self, LeftOut, Root};
use anyhow::{Context, bail};
use rayon::prelude::*;
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use trevlin_audit::{Estate, Found, Input, ValidEstateFile, device_folders};
use trevlin_model::{Export, ExportId, LineClass, Origin};
use trevlin_readers::{Reader, Reading, Surroundings, decode, recognise};
use zeroize::Zeroizing;

/// How much to tell while reading.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Telling {
    /// Nothing.
    Nothing,
    /// What was left out.
    Warnings,
    /// What each file was taken for as well.
    Everything,
}

/// The name of the estate file.
const ESTATE_FILE: &str = "trevlin.toml";

/// A file as text, not yet read.
struct Decoded {
    export: Export,
    folder: String,
    reader: Option<&'static Reader>,
}

/// Reads everything below the paths.
///
/// # Errors
/// When nothing could be read or recognised, or an estate file is not valid.
pub(crate) fn estate(paths: &[PathBuf], telling: Telling) -> anyhow::Result<Estate> {
    let mut left_out = Vec::new();
    let mut seen = Vec::new();
    let roots: Vec<Root> = paths
        .iter()
        .filter(|path| {
            // The same path given twice is read once.
            let canonical = fs::canonicalize(path).ok();
            let again = canonical.is_some() && seen.contains(&canonical);
            seen.push(canonical);
            !again
        })
        .filter_map(|path| walk::walk(path, &mut left_out))
        .collect();
    let several = roots.len() > 1;
    let mut file = ValidEstateFile::default();
    let mut texts = Vec::new();
    for root in &roots {
        let stated = root.files.iter().find(|one| one.path == ESTATE_FILE);
        if let Some(stated) = stated {
            merge(&mut file, estate_file(&stated.at)?);
        }
        let read: Vec<_> = root
            .files
            .par_iter()
            .filter(|one| one.path != ESTATE_FILE)
            .map(|one| (one, read(&one.at)))
            .collect();
        let mut kept = Vec::new();
        for (one, outcome) in read {
            match outcome {
                Ok(text) => kept.push((one.path.clone(), text)),
                Err(why) => left_out.push(LeftOut { at: one.at.clone(), why }),
            }
        }
        texts.push((root, kept, stated.is_some()));
    }
    for one in &left_out {
        // A path that was asked for by name is missed even by those who want no warnings.
        if telling != Telling::Nothing || paths.contains(&one.at) {
            messages::warning(&format!("{}: {}", one.at.display(), one.why));
        }
    }
    let decoded = sort_into_devices(texts, several);
    if decoded.is_empty() {
        bail!("nothing to audit: no file below {} could be read", list(paths));
    }
    tell_what_was_taken(&decoded, telling);
    if decoded.iter().all(|one| one.reader.is_none()) {
        let formats: Vec<_> = trevlin_readers::READERS.iter().map(|reader| reader.title).collect();
        bail!(
            "nothing to audit: of {} below {} none is of a format that is read here. These are read: {}",
            match decoded.len() {
                1 => "the file".to_owned(),
                count => format!("{count} files"),
            },
            list(paths),
            formats.join("; ")
        );
    }
    Ok(Estate::assemble(read_all(decoded), &file))
}

fn list(paths: &[PathBuf]) -> String {
    paths.iter().map(|path| path.display().to_string()).collect::<Vec<_>>().join(", ")
}

fn estate_file(at: &Path) -> anyhow::Result<ValidEstateFile> {
    let text = fs::read_to_string(at).with_context(|| format!("{} cannot be read", at.display()))?;
    ValidEstateFile::parse(&text).with_context(|| format!("{} is not a valid estate file", at.display()))
}

fn merge(all: &mut ValidEstateFile, one: ValidEstateFile) {
    all.organisation.extend(one.organisation);
    all.devices.extend(one.devices);
}

fn read(at: &Path) -> Result<String, String> {
    let bytes = Zeroizing::new(fs::read(at).map_err(|error| walk::explain(&error))?);
    decode(&bytes).map_err(|error| format!("{error}; export it as text, or leave it out"))
}

type Texts<'a> = Vec<(&'a Root, Vec<(String, String)>, bool)>;

/// Gives every file its device and every export its number.
fn sort_into_devices(texts: Texts<'_>, several: bool) -> Vec<Decoded> {
    let mut decoded = Vec::new();
    for (root, files, has_estate_file) in texts {
        let prefix =
            if several && root.folder { format!("{}/", root_name(&root.given)) } else { String::new() };
        let exports: Vec<_> = files
            .into_iter()
            .map(|(path, text)| (path.clone(), Export::new(ExportId(0), format!("{prefix}{path}"), text)))
            .collect();
        let readers: Vec<_> = exports.par_iter().map(|(_, export)| recognise(export).reader).collect();
        let mut found: Vec<_> = exports
            .iter()
            .zip(&readers)
            .map(|((path, _), reader)| Found { path, recognised: reader.is_some() })
            .collect();
        if has_estate_file {
            found.push(Found { path: ESTATE_FILE, recognised: false });
        }
        let folders: Vec<_> = if root.folder { device_folders(&found) } else { vec![Some(String::new())] };
        for (((_, export), reader), folder) in exports.into_iter().zip(readers).zip(folders) {
            // Something that lies beside the devices and is of no known format belongs to nobody.
            let Some(folder) = folder else { continue };
            let folder = match folder.as_str() {
                "" if root.folder => root_name(&root.given),
                "" => file_device(&root.given),
                _ => format!("{prefix}{folder}"),
            };
            decoded.push(Decoded { export, folder, reader });
        }
    }
    decoded.sort_by(|a, b| a.export.path().cmp(b.export.path()));
    for (number, one) in decoded.iter_mut().enumerate() {
        one.export.renumber(ExportId(number as u32));
    }
    decoded
}

/// The name of a folder given, also where it was given as `.` or `..`.
fn root_name(given: &Path) -> String {
    let name = |path: &Path| path.file_name().map(|name| name.to_string_lossy().into_owned());
    name(given).or_else(|| name(&fs::canonicalize(given).ok()?)).unwrap_or_else(|| "device".into())
}

/// The device that a single file belongs to: the folder that holds its `etc`, else the folder it lies in, so that
/// several files of one folder are one device.
fn file_device(given: &Path) -> String {
    let whole = fs::canonicalize(given).unwrap_or_else(|_| given.to_owned());
    let folders: Vec<_> = whole
        .parent()
        .into_iter()
        .flat_map(Path::components)
        .map(|part| part.as_os_str().to_string_lossy())
        .collect();
    let before_etc =
        folders.iter().position(|name| name == "etc").and_then(|at| folders.get(at.checked_sub(1)?));
    let holder = before_etc.or(folders.last()).filter(|name| *name != "/");
    holder.map_or_else(|| "device".into(), ToString::to_string)
}

fn tell_what_was_taken(decoded: &[Decoded], telling: Telling) {
    for one in decoded {
        let path = one.export.path();
        let also = recognise(&one.export).also;
        if !also.is_empty() && telling != Telling::Nothing {
            let names: Vec<_> = also.iter().map(|reader| reader.name).collect();
            messages::warning(&format!("{path}: could be {} as well", names.join(" or ")));
        }
        if telling == Telling::Everything {
            match one.reader {
                Some(reader) => messages::note(&format!(
                    "{path}: {} ({}), device {}",
                    reader.title, reader.name, one.folder
                )),
                None => {
                    messages::note(&format!("{path}: no format that is read here, device {}", one.folder))
                }
            }
        }
    }
}

/// Lets the readers read, each export with the others of its device at hand.
fn read_all(decoded: Vec<Decoded>) -> Vec<Input> {
    let mut by_folder: BTreeMap<&str, Vec<&Export>> = BTreeMap::new();
    for one in &decoded {
        by_folder.entry(&one.folder).or_default().push(&one.export);
    }
    let surroundings: BTreeMap<&str, Surroundings<'_>> =
        by_folder.into_iter().map(|(folder, exports)| (folder, Surroundings { exports })).collect();
    let readings: Vec<Reading> = decoded
        .par_iter()
        .map(|one| match one.reader {
            Some(reader) => (reader.read)(&one.export, &surroundings[one.folder.as_str()]),
            None => unread(&one.export),
        })
        .collect();
    drop(surroundings);
    // A file without a format of its own may have been read by another's reader: included, or named for a secret.
    let mut touched: BTreeMap<ExportId, (&'static str, Places)> = BTreeMap::new();
    for (one, reading) in decoded.iter().zip(&readings) {
        for (origin, class) in &reading.elsewhere {
            let reader = one.reader.map_or("unknown", |reader| reader.name);
            touched.entry(origin.export).or_insert((reader, Vec::new())).1.push((*origin, *class));
        }
    }
    decoded
        .into_iter()
        .zip(readings)
        .map(|(one, reading)| match (one.reader, touched.get(&one.export.id())) {
            (None, Some((format, places))) => {
                let reading = read_by_another(&one.export, places);
                (one, reading, Some(*format))
            }
            (reader, _) => (one, reading, reader.map(|reader| reader.name)),
        })
        .map(|(one, reading, format)| Input {
            export: one.export,
            folder: one.folder,
            format,
            facts: reading.facts,
            ledger: reading.ledger,
        })
        .collect()
}

/// Places of a file, with what became of them.
type Places = Vec<(Origin, LineClass)>;

/// A ledger from what another's reader made of the file; lines it did not look at have no bearing.
fn read_by_another(export: &Export, places: &[(Origin, LineClass)]) -> Reading {
    let mut reading = Reading::of(export);
    for (place, class) in places {
        let last = place.end.max(place.start + 1) - 1;
        reading.ledger.set(export.position(place.start).line, export.position(last).line, *class);
    }
    reading
}

/// Every line of a file that nobody reads is not understood.
fn unread(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::NotUnderstood);
    reading
}
