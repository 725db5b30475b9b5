//! Files that are written: whole or not at all.

use anyhow::{Context, bail};
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

/// The folder that a file lies in.
pub(crate) fn folder(of: &Path) -> &Path {
    of.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// Writes a file in one step: who reads it meanwhile sees the old one or the new one. What was there keeps its permissions.
///
/// # Errors
/// When it cannot be written.
pub(crate) fn replace(at: &Path, bytes: &[u8]) -> anyhow::Result<()> {
    let context = || format!("{} cannot be written", at.display());
    let mut file = tempfile::NamedTempFile::new_in(folder(at)).with_context(context)?;
    file.write_all(bytes).with_context(context)?;
    if let Ok(known) = fs::metadata(at) {
        fs::set_permissions(file.path(), known.permissions()).with_context(context)?;
    }
    file.persist(at).with_context(context)?;
    Ok(())
}

/// Whether nothing lies in a folder, or it is not there.
pub(crate) fn is_free(folder: &Path) -> bool {
    fs::read_dir(folder).map_or(!folder.exists(), |mut all| all.next().is_none())
}

/// A folder that is made whole or not at all: what goes into it is written beside it, and stands under its name once all is there.
/// Where there is one already, files are replaced in it one by one.
pub(crate) struct NewFolder {
    at: PathBuf,
    staged: Option<tempfile::TempDir>,
}

impl NewFolder {
    /// Begins one.
    ///
    /// # Errors
    /// When nothing can be written beside it.
    pub(crate) fn begin(at: &Path) -> anyhow::Result<Self> {
        let context = || format!("{} cannot be made", at.display());
        let empty = is_free(at);
        let parent = folder(at);
        fs::create_dir_all(parent).with_context(context)?;
        let staged =
            empty.then(|| tempfile::Builder::new().prefix(".trevlin-unfinished-").tempdir_in(parent));
        Ok(Self { at: at.to_owned(), staged: staged.transpose().with_context(context)? })
    }

    fn top(&self) -> &Path {
        self.staged.as_ref().map_or(&self.at, tempfile::TempDir::path)
    }

    /// Where a file of it is to be written, with the folders that it needs. No link on the way is followed: it may lead anywhere.
    ///
    /// # Errors
    /// When a folder cannot be made, or a link stands in its place.
    pub(crate) fn place(&self, path: &Path) -> anyhow::Result<PathBuf> {
        let at = self.top().join(path);
        let folder = folder(&at);
        let within = folder.ancestors().take_while(|one| one.starts_with(self.top()) && *one != self.top());
        if let Some(link) = within.into_iter().find(|one| one.is_symlink()) {
            bail!("{} is a link, and nothing is written through it", link.display());
        }
        fs::create_dir_all(folder).with_context(|| format!("{} cannot be made", folder.display()))?;
        Ok(at)
    }

    /// Gives it its name.
    ///
    /// # Errors
    /// When it cannot be moved into its place.
    pub(crate) fn finish(self) -> anyhow::Result<()> {
        let Some(staged) = self.staged else { return Ok(()) };
        let context = || format!("{} cannot be made", self.at.display());
        if self.at.exists() {
            // It was empty when it was looked at, and is left alone where it no longer is.
            fs::remove_dir(&self.at).with_context(context)?;
        }
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            // What is made for the time being is its maker's alone.
            let usual = fs::metadata(folder(&self.at)).map_or(0o755, |one| one.permissions().mode() & 0o777);
            fs::set_permissions(staged.path(), fs::Permissions::from_mode(usual | 0o700))
                .with_context(context)?;
        }
        fs::rename(staged.path(), &self.at).with_context(context)?;
        // It is no longer where it was made, and nothing is to be taken away there.
        let _ = staged.keep();
        Ok(())
    }
}

/// The folder of an estate that a folder lies in, or would once it is made.
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
