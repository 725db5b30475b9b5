//! `smbpasswd` (smbpasswd(5)) and the output of `pdbedit -L -w`: user names with password hashes.

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, Login, LoginDaemon, LoginList};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "smbpasswd",
    title: "Samba accounts",
    manual: "smbpasswd(5), pdbedit(8)",
    recognise: |export| {
        let mut lines = export.lines().filter(|line| !is_empty(line.text));
        match lines.next() {
            Some(first) if fields(first.text).is_some() => Recognition::Content,
            None if export.file_name() == "smbpasswd" => Recognition::Name,
            _ => Recognition::No,
        }
    },
    read,
};

fn is_empty(text: &str) -> bool {
    text.trim().is_empty() || text.starts_with('#')
}

/// Name, hash of LAN Manager, NT hash, flags.
fn fields(text: &str) -> Option<[&str; 4]> {
    let mut fields = text.trim_end().split(':');
    let (name, uid, lanman, nt, flags) =
        (fields.next()?, fields.next()?, fields.next()?, fields.next()?, fields.next()?);
    let is_hash = |one: &str| {
        one.len() == 32 && one.bytes().all(|byte| byte.is_ascii_hexdigit() || byte == b'X' || byte == b'*')
    };
    let fits = uid.bytes().all(|byte| byte.is_ascii_digit())
        && (is_hash(lanman) || lanman.starts_with("NO PASSWORD"))
        && (is_hash(nt) || nt.starts_with("NO PASSWORD"))
        && flags.starts_with('[');
    fits.then_some([name, lanman, nt, flags])
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    for line in export.lines().filter(|line| !is_empty(line.text)) {
        let origin = export.origin_of(line.text.trim());
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let Some([name, lanman, nt, flags]) = fields(line.text) else {
            book.not_understood(
                origin,
                "expected `name:number:hash:hash:[flags]:`; no user can log in with this line",
            );
            reading.facts.masked_places.push(origin);
            continue;
        };
        book.understood(origin);
        // Disabled users and machine accounts are no logins (smbpasswd(5): D; W, S, I).
        let off = flags.contains(['D', 'W', 'S', 'I']);
        if lanman.bytes().all(|byte| byte.is_ascii_hexdigit()) && lanman.len() == 32 {
            reading.facts.masked_places.push(export.origin_of(lanman));
        }
        if nt.starts_with(['X', '*', 'N']) && !flags.contains('N') {
            continue;
        }
        let secret = serving::hold(export, &mut reading.facts, nt, SecretKind::PasswordHash, name);
        if !off {
            reading.facts.logins.push(Login {
                user: name.to_owned(),
                list: LoginList::LocalFile(export.path().to_owned()),
                daemon: Some(LoginDaemon::Service),
                service: "SMB server (Samba)".into(),
                // With the flag N no password is required.
                secret: secret.filter(|_| !flags.contains('N')),
                certain: true,
                expires: None,
                origin,
            });
        }
    }
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn lines() {
        const X: &str = "XXXXXXXXXXXXXXXXXXXXXXXXXXXXXXXX";
        const HASH: &str = "0123456789ABCDEF0123456789ABCDEF";
        let text = format!(
            "# names\nann:1000:{X}:{HASH}:[U          ]:LCT-65000000:\nbob:1001:{X}:{HASH}:[DU         ]:LCT-65000000:\n\
             gull$:1002:{X}:{HASH}:[W          ]:LCT-65000000:\nbroken\n"
        );
        let export = Export::new(ExportId(0), "d/etc/samba/smbpasswd", text);
        assert_eq!((READER.recognise)(&export), Recognition::Content);
        let reading = read(&export, &ReadContext::default());
        let users: Vec<&str> = reading.facts.logins.iter().map(|one| one.user.as_str()).collect();
        assert_eq!(users, ["ann"]);
        assert_eq!((reading.facts.secrets.len(), reading.ledger.notes.len()), (3, 1));
        let other = Export::new(ExportId(0), "d/etc/passwd", "ann:x:1000:1000::/home/ann:/bin/sh\n".into());
        assert_eq!((READER.recognise)(&other), Recognition::No);
    }
}
