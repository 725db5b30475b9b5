//! Seeds of one-time codes: the users file of pam_oath (`HOTP/T30 user pin seed …`) and the file that google-authenticator(1) writes in
//! a home folder.

use super::list;
use crate::reader::{LineRecorder, Reader, Reading, Recognition, TELLING_LINES};
use crate::serving::{entries, hold};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, LineClass};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "code-seeds",
    title: "seeds of one-time codes",
    manual: "pam_oath, usersfile; google-authenticator(1)",
    recognise: |export| {
        let mut lines = entries(export).take(TELLING_LINES).peekable();
        if lines.peek().is_some() && lines.all(|line| user_line(line).is_some())
            || home_file(export).is_some()
        {
            Recognition::Content
        } else if matches!(export.file_name(), "users.oath" | ".google_authenticator") {
            Recognition::Name
        } else {
            Recognition::No
        }
    },
    read: |export, _| read(export),
};

/// Type of token, user, PIN and seed of a line of the users file (liboath, oath_authenticate_usersfile).
fn user_line(text: &str) -> Option<(&str, &str)> {
    let mut words = text.split_whitespace();
    let (kind, user, _pin, seed) = (words.next()?, words.next()?, words.next()?, words.next()?);
    (kind.starts_with("HOTP") && seed.bytes().all(|byte| byte.is_ascii_hexdigit())).then_some((user, seed))
}

/// The seed in Base32 on the first line, before lines of options (`" TOTP_AUTH`).
fn home_file(export: &Export) -> Option<&str> {
    let mut lines = export.lines().map(|line| line.text.trim());
    let seed = lines.next()?;
    let base32 = |byte: u8| byte.is_ascii_uppercase() || (b'2'..=b'7').contains(&byte) || byte == b'=';
    (seed.len() >= 16 && seed.bytes().all(base32) && lines.next()?.starts_with("\" ")).then_some(seed)
}

fn read(export: &Export) -> Reading {
    let Some(seed) = home_file(export) else {
        let expected = "expected `HOTP/T30 user pin seed`, the seed in hexadecimal";
        return list(export, SecretKind::CodeSeed, expected, user_line);
    };
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    // The folder it lies in is the user's.
    let user = export.path().rsplit('/').nth(1).unwrap_or("a user").to_owned();
    hold(export, &mut reading.facts, seed, SecretKind::CodeSeed, &user);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    book.understood(export.origin_of(seed));
    // Codes for emergencies, eight digits each, open the account as well.
    for line in export.lines().skip(1) {
        let text = line.text.trim();
        if !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit()) {
            reading.facts.masked_places.push(export.origin_of(text));
        }
    }
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn seeds_with_their_users() {
        for (path, text, wanted) in [
            (
                "d/etc/users.oath",
                "HOTP/T30/6 ann - 00a1b2c3d4e5f60718293a4b5c6d7e8f90a1b2c3\nHOTP bob + 3132\n",
                &["ann", "bob"][..],
            ),
            ("d/kept", "HOTP/T30 ann - 00a1b2\n", &["ann"]),
            (
                "d/home/ann/.google_authenticator",
                "JBSWY3DPEHPK3PXPJBSWY3DPEHPK3PXP\n\" RATE_LIMIT 3 30\n\" TOTP_AUTH\n12345678\n",
                &["ann"],
            ),
        ] {
            let export = Export::new(ExportId(0), path, text.into());
            assert_eq!(crate::recognise(&export).reader.expect(text).name, "code-seeds", "{text}");
            let reading = read(&export);
            let told: Vec<&str> = reading.facts.secrets.iter().map(|held| held.owner.as_str()).collect();
            assert_eq!(told, wanted, "{text}");
        }
    }
}
