//! Where phrasebooks come from, and which is for an export.

use crate::messages;
use crate::verbosity::Verbosity;
use anyhow::bail;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use trevlin_model::{Export, ExportId, Note};
use trevlin_readers::{Phrasebook, Recognised, Shelf};

/// A phrasebook from its file. Errors are reported.
pub(crate) fn of(export: &Export, verbosity: Verbosity) -> Arc<Phrasebook> {
    told(export, Phrasebook::read(export), verbosity)
}

/// A phrasebook read from its file, after its errors were reported.
pub(crate) fn told(
    export: &Export,
    (book, notes): (Phrasebook, Vec<Note>),
    verbosity: Verbosity,
) -> Arc<Phrasebook> {
    if verbosity != Verbosity::Nothing {
        for note in notes {
            let line = export.line_of(note.origin.start);
            messages::warning(&format!("{}:{line}: {}", export.path(), note.text));
        }
    }
    Arc::new(book)
}

/// Phrasebooks in the user's configuration folder (XDG Base Directory Specification: `$XDG_CONFIG_HOME`, otherwise `~/.config`), in order
/// of name.
pub(crate) fn of_the_user(verbosity: Verbosity) -> Vec<Arc<Phrasebook>> {
    let set = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let home = || Some(set("HOME")?.join(".config"));
    let Some(folder) = set("XDG_CONFIG_HOME").or_else(home).map(|folder| folder.join("trevlin/phrasebooks"))
    else {
        return Vec::new();
    };
    let Ok(files) = std::fs::read_dir(&folder) else { return Vec::new() };
    let mut paths: Vec<PathBuf> = files.filter_map(|file| Some(file.ok()?.path())).collect();
    paths.retain(|path| path.extension().is_some_and(|ending| ending == "toml"));
    paths.sort();
    let read = |path: PathBuf| {
        let export = crate::read::export(&path).ok()?;
        Phrasebook::is_one(&export).then(|| of(&export, verbosity))
    };
    paths.into_iter().filter_map(read).collect()
}

/// The phrasebook for an export. One that recognises the content takes precedence over a reader that is unsure.
pub(crate) fn for_export(
    books: &Shelf<Arc<Phrasebook>>,
    export: &Export,
    known: &Recognised,
) -> Option<Arc<Phrasebook>> {
    if known.declared {
        return None;
    }
    let by_name = || if known.reader.is_none() { books.by_name(export) } else { None };
    books.by_content(export).or_else(by_name).cloned()
}

/// A phrasebook and exports, after the errors of the former were reported.
pub(crate) fn given(book: &Path, exports: &[PathBuf]) -> anyhow::Result<(Phrasebook, Vec<Export>)> {
    let file = crate::read::export(book)?;
    if !Phrasebook::is_one(&file) {
        bail!("{} is not a phrasebook; `trevlin phrasebook new` prints a template", book.display());
    }
    let (read, notes) = Phrasebook::read(&file);
    for note in notes {
        let line = file.line_of(note.origin.start);
        crate::messages::warning(&format!("{}:{line}: {}", book.display(), note.text));
    }
    let numbered = |(at, path): (usize, &PathBuf)| {
        let mut export = crate::read::export(path)?;
        export.renumber(ExportId(at as u32));
        Ok(export)
    };
    Ok((read, exports.iter().enumerate().map(numbered).collect::<anyhow::Result<_>>()?))
}
