//! Files that are no configurations of a format of ours, whatever their names and lines look like.

use crate::reader::{Reader, Reading, by_name};
use trevlin_model::{Export, LineClass};

/// Folders whose files configure other things than services: filters of log lines, rotation of logs, profiles of confinement, alternatives
/// of commands, completions of shells, documentation (fail2ban(1), logrotate(8), apparmor.d(5), update-alternatives(1), hier(7)).
const FOLDERS: [&str; 12] = [
    "/fail2ban/filter.d/",
    "/fail2ban/action.d/",
    "/logrotate.d/",
    "/apparmor.d/",
    "/alternatives/",
    "/bash_completion.d/",
    "/bash-completion/",
    "/update-motd.d/",
    "/logcheck/",
    "/share/doc/",
    "/share/man/",
    "/share/locale/",
];

/// Whether the folder of a file shows that it is no configuration of a service.
pub(crate) fn is_elsewhere(export: &Export) -> bool {
    FOLDERS.iter().any(|folder| export.path().contains(folder))
}

/// Formats whose signs are certain: a module of a standard model, a block with a label of its own.
const CERTAIN: [&str; 3] = ["pem", "sheet", "yang"];

/// So many lines that are not understood show that one sign was a coincidence, where they are this many times as many as the others.
const LEAST: u32 = 4;
const TIMES: u32 = 2;

/// Whether the reading of a file agrees with the sign by which it was recognised: in prose, and in other languages, one line may look like
/// the format, and nearly all others are not understood. A name of the format is a second sign; a reading that a limit cut short shows
/// nothing.
#[must_use]
pub fn coheres(reader: &Reader, export: &Export, reading: &Reading, declared: bool) -> bool {
    let lost = reading.ledger.count(LineClass::NotUnderstood);
    let known = reading.ledger.count(LineClass::Understood);
    let strange = lost >= LEAST && lost > known.saturating_mul(TIMES);
    let cut = !reading.ledger.cuts.is_empty();
    !strange || cut || declared || CERTAIN.contains(&reader.name) || by_name(reader, export)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reader::ReadContext;
    use crate::recognise;
    use trevlin_model::ExportId;

    /// Whether a file has a reader that understands it.
    fn taken(path: &str, text: &str) -> Option<&'static str> {
        let export = Export::new(ExportId(0), path, text.to_owned());
        let found = recognise(&export);
        let reader = found.reader?;
        let reading = (reader.read)(&export, &ReadContext::of(vec![&export]));
        coheres(reader, &export, &reading, found.declared).then_some(reader.name)
    }

    #[test]
    fn one_sign_is_not_enough() {
        let prose = "Changes of this version\n\nThe server now accepts a view for clients:\n\n\
                     options { recursion yes; };\n\nIt was asked for by many.\nSee the manual for more.\nThanks to all.\n\
                     Known faults are listed below.\n";
        let zone = "options { directory \"/var\"; recursion yes; };\nzone \"a.example\" { type master; file \"a\"; };\n";
        let jail = "[Definition]\nfailregex = ^x$\nignoreregex =\n_daemon = vsftpd\n";
        let script = "local cfg = {}\ncfg.user = \"admin\"\npassword=\"y\"\nreturn cfg\nend\n";
        let users = "ines Cleartext-Password := \"Sesame-9\"\n    Framed-IP-Address = 10.4.0.9\nDEFAULT Auth-Type := Reject\n";
        for (path, text, wanted) in [
            ("d/kept.txt", zone, Some("named")),
            ("d/notes.txt", prose, None),
            // Its name is a second sign, and its lines are reported.
            ("d/etc/bind/named.conf", prose, Some("named")),
            ("d/etc/fail2ban/filter.d/vsftpd.conf", jail, None),
            ("d/root/x.lua", script, None),
            ("d/kept.txt", users, Some("radius-users")),
        ] {
            assert_eq!(taken(path, text), wanted, "{path}");
        }
    }
}
