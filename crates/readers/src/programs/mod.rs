//! Programs whose command line decides where they listen and which clients they accept: in units, in files of options, and behind a
//! super-server.

pub(crate) mod etcd;
pub(crate) mod memcached;
pub(crate) mod options;
pub(crate) mod rpcbind;
pub(crate) mod tftpd;
pub(crate) mod vnc;

use crate::reader::{ReadContext, Reading};
use crate::sshd::dropbear;
use options::Word;
use trevlin_model::{Export, Origin};

/// Facts of a command: its words, the export, its line, and the other exports of the device.
type Start = for<'a> fn(&[Word<'a>], Origin, &'a Export, &ReadContext<'a>, &mut Reading);

/// Programs that are read by their options, by the names of their files.
const PROGRAMS: [(&str, Start); 14] = [
    ("memcached", memcached::started),
    ("etcd", etcd::started),
    ("dropbear", dropbear::started),
    ("rpcbind", rpcbind::started),
    ("in.tftpd", tftpd::started),
    ("tftpd", tftpd::started),
    ("Xvnc", vnc::started),
    ("Xtigervnc", vnc::started),
    ("vncserver", vnc::started),
    ("tigervncserver", vnc::started),
    ("X0vncserver", vnc::started),
    ("x0vncserver", vnc::started),
    ("X0tigervnc", vnc::started),
    ("x11vnc", vnc::started),
];

/// Whether a program is read by its options.
pub(crate) fn knows(program: &str) -> bool {
    PROGRAMS.iter().any(|(name, _)| *name == program)
}

/// Adds the facts of a command. Its first word is the program.
pub(crate) fn started<'a>(
    words: &[Word<'a>],
    origin: Origin,
    export: &'a Export,
    around: &ReadContext<'a>,
    reading: &mut Reading,
) {
    let program = words.first().map(|word| options::file_name(&word.text)).unwrap_or_default();
    if let Some((_, start)) = PROGRAMS.iter().find(|(name, _)| *name == program) {
        start(words, origin, export, around, reading);
    }
}

#[cfg(test)]
mod tests;
