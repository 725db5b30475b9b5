//! Files that are written: whole or not at all.

use crate::unfinished::{self, Unfinished};
use anyhow::{Context, bail};
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

/// The folder of a file.
pub(crate) fn folder(of: &Path) -> &Path {
    of.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// Writes a file in one step: concurrent readers see the old or the new content. Permissions are kept.
///
/// # Errors
/// When it cannot be written.
pub(crate) fn replace(at: &Path, bytes: &[u8]) -> anyhow::Result<()> {
    let context = || format!("{} cannot be written", at.display());
    let in_folder = || tempfile::Builder::new().prefix(UNFINISHED).tempfile_in(folder(at));
    let (mut file, _unfinished) =
        unfinished::make(in_folder, tempfile::NamedTempFile::path).with_context(context)?;
    file.write_all(bytes).with_context(context)?;
    if let Ok(known) = fs::metadata(at) {
        fs::set_permissions(file.path(), known.permissions()).with_context(context)?;
    }
    file.persist(at).with_context(context)?;
    Ok(())
}

/// Writes a new file in a folder that is not complete yet.
///
/// # Errors
/// When it cannot be written.
pub(crate) fn fill(at: &Path, bytes: &[u8]) -> anyhow::Result<()> {
    fs::write(at, bytes).with_context(|| format!("{} cannot be written", at.display()))
}

/// Prefix of the names of unfinished output.
const UNFINISHED: &str = ".trevlin-unfinished-";

/// Refuses to write a file over another, or among the exports, which the next run would read; with `force` neither is minded.
///
/// # Errors
/// When the file exists, or would be below one of the paths.
pub(crate) fn may_write(file: &Path, what: &str, among_paths: &[PathBuf], force: bool) -> anyhow::Result<()> {
    if force {
        return Ok(());
    }
    if file.exists() || file.is_symlink() {
        bail!("{} already exists; use --force to overwrite it", file.display());
    }
    if let Some(path) = among(folder(file), among_paths) {
        bail!(
            "{} would be inside {}, which is read: the next run would read the {what}; write it elsewhere, or use --force",
            file.display(),
            path.display()
        );
    }
    Ok(())
}

/// Whether a folder is empty, or does not exist.
pub(crate) fn is_free(folder: &Path) -> bool {
    fs::read_dir(folder).map_or(!folder.exists(), |mut all| all.next().is_none())
}

/// A folder that is created as a whole or not at all: its content is written beside it, and renamed once complete. Where it exists already,
/// the content is written inside, and moved into place once complete.
pub(crate) struct NewFolder {
    at: PathBuf,
    staged: tempfile::TempDir,
    /// Files to be moved into place, by path below the folder.
    files: Vec<PathBuf>,
    /// Whether the folder exists, and its content or its place must be kept.
    is_there: bool,
    _unfinished: Unfinished,
}

impl NewFolder {
    /// Begins one.
    ///
    /// # Errors
    /// When nothing can be written beside it.
    pub(crate) fn begin(at: &Path) -> anyhow::Result<Self> {
        let context = || format!("{} cannot be created", at.display());
        // A folder that may be a working directory, or has no name of its own, keeps its place too.
        let named = at.file_name().is_some() && fs::canonicalize(at).ok() != std::env::current_dir().ok();
        let is_there = !is_free(at) || (at.exists() && !named);
        let beside = if is_there { at } else { folder(at) };
        fs::create_dir_all(beside).with_context(context)?;
        let make = || tempfile::Builder::new().prefix(UNFINISHED).tempdir_in(beside);
        let (staged, _unfinished) = unfinished::make(make, tempfile::TempDir::path).with_context(context)?;
        Ok(Self { at: at.to_owned(), staged, files: Vec::new(), is_there, _unfinished })
    }

    /// Where a file of it is to be written, with the folders that it needs. No link on the way is followed: it may lead anywhere.
    ///
    /// # Errors
    /// When a folder cannot be created, or a link or a folder has its name.
    pub(crate) fn place(&mut self, path: &Path) -> anyhow::Result<PathBuf> {
        let target = self.at.join(path);
        if let Some(link) = between(&target, &self.at).find(|one| one.is_symlink()) {
            bail!("{} is a link, and is not written through", link.display());
        }
        if let Some(file) = between(&target, &self.at).find(|one| one.is_file()) {
            bail!("{} is a file, and a folder is needed; name another folder", file.display());
        }
        if target.is_dir() && !target.is_symlink() {
            bail!("{} is a folder, and a file is needed; name another file", target.display());
        }
        let at = self.staged.path().join(path);
        let folder = folder(&at);
        unfinished::while_going(|| fs::create_dir_all(folder))
            .with_context(|| format!("{} cannot be created", folder.display()))?;
        self.files.push(path.to_owned());
        Ok(at)
    }

    /// Gives it its name.
    ///
    /// # Errors
    /// When it cannot be moved into its place.
    pub(crate) fn finish(self) -> anyhow::Result<()> {
        let context = || format!("{} cannot be created", self.at.display());
        if self.is_there {
            // All is written: what is left cannot run out of room.
            for path in &self.files {
                let target = self.at.join(path);
                fs::create_dir_all(folder(&target)).with_context(context)?;
                fs::rename(self.staged.path().join(path), target).with_context(context)?;
            }
            return Ok(());
        }
        if self.at.exists() {
            // It was empty when it was looked at, and is left alone where it no longer is.
            fs::remove_dir(&self.at).with_context(context)?;
        }
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            // Temporary files are private to their creator.
            let usual = fs::metadata(folder(&self.at)).map_or(0o755, |one| one.permissions().mode() & 0o777);
            fs::set_permissions(self.staged.path(), fs::Permissions::from_mode(usual | 0o700))
                .with_context(context)?;
        }
        fs::rename(self.staged.path(), &self.at).with_context(context)?;
        // It is no longer where it was made, and nothing is to be taken away there.
        let _ = self.staged.keep();
        Ok(())
    }
}

/// The folders between a file and the one it is written below, without that.
fn between<'a>(file: &'a Path, top: &'a Path) -> impl Iterator<Item = &'a Path> {
    folder(file).ancestors().take_while(move |one| one.starts_with(top) && *one != top)
}

/// The folder of an estate that contains a folder, or would once it is created.
pub(crate) fn among<'a>(folder: &Path, estates: &'a [PathBuf]) -> Option<&'a PathBuf> {
    let non_empty =
        |path: &Path| if path.as_os_str().is_empty() { PathBuf::from(".") } else { path.to_owned() };
    // The nearest folder that is there says where it will lie.
    let there = folder.ancestors().find_map(|one| fs::canonicalize(non_empty(one)).ok())?;
    let within = |path: &&PathBuf| {
        fs::canonicalize(path).is_ok_and(|estate| estate.is_dir() && there.starts_with(estate))
    };
    estates.iter().find(within)
}
