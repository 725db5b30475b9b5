//! Opens files that may change meanwhile: a file may have become a link, a pipe or a device when it is opened. No link on the path is
//! followed, and the type is that of the opened file.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;
use trevlin_model::{Limit, Limits, size};
use trevlin_readers::archive::NO_FILE;
use zeroize::Zeroizing;

/// The bytes of a file, whose path has no links in it.
///
/// # Errors
/// When it cannot be read, is larger than the limit, or is no file any more.
pub(crate) fn read(at: &Path, limits: &Limits, limit: Limit) -> Result<Zeroizing<Vec<u8>>, String> {
    let most = limits.get(limit);
    let file = without_links(at).map_err(|error| said(&error))?;
    let there = file.metadata().map_err(|error| explain(&error))?;
    if !there.is_file() {
        return Err(NO_FILE.into());
    }
    let mut bytes =
        Zeroizing::new(Vec::with_capacity(usize::try_from(there.len().min(most)).unwrap_or_default()));
    file.take(most + 1).read_to_end(&mut bytes).map_err(|error| explain(&error))?;
    if bytes.len() as u64 > most {
        return Err(too_large(limits, limit));
    }
    Ok(bytes)
}

/// Explanation of an input or output error about a path.
pub(crate) fn explain(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::NotFound => "there is no such file or folder; check the path".into(),
        io::ErrorKind::PermissionDenied => {
            "permission denied; change the permissions or run as its owner".into()
        }
        _ => error.to_string(),
    }
}

/// Message about input beyond a limit.
pub(crate) fn too_large(limits: &Limits, limit: Limit) -> String {
    let which = if limit == Limit::FileBytes { ", which is not a configuration file" } else { "" };
    format!("larger than {}{which}; leave it out, split it, or {}", size(limits.get(limit)), limit.remedy())
}

/// Explanation of an error in opening a file: for links on the path the system reports too many links, and for a socket that there is no
/// such device.
fn said(error: &io::Error) -> String {
    #[cfg(unix)]
    {
        use rustix::io::Errno;
        match Errno::from_io_error(error) {
            Some(Errno::LOOP) => {
                return "it was replaced by a link while reading, and is not followed".to_owned();
            }
            Some(Errno::NXIO | Errno::OPNOTSUPP) => return NO_FILE.to_owned(),
            _ => {}
        }
    }
    explain(error)
}

/// Opens a file without waiting for a writer (a pipe would).
#[cfg(unix)]
fn without_links(at: &Path) -> io::Result<File> {
    use rustix::fs::{CWD, Mode, OFlags};
    let how = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOFOLLOW | OFlags::NOCTTY | OFlags::CLOEXEC;
    #[cfg(target_os = "linux")]
    {
        use rustix::fs::{ResolveFlags, openat2};
        use rustix::io::Errno;
        match openat2(CWD, at, how, Mode::empty(), ResolveFlags::NO_SYMLINKS) {
            Ok(file) => return Ok(file.into()),
            // An old kernel, or one configured to refuse it: protect at least the last part of the path.
            Err(Errno::NOSYS | Errno::PERM) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(rustix::fs::openat(CWD, at, how, Mode::empty())?.into())
}

#[cfg(not(unix))]
fn without_links(at: &Path) -> io::Result<File> {
    File::open(at)
}
