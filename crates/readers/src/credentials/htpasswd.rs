//! Password lists of web servers: `name:hash` (htpasswd(1)) and `name:realm:hash` (htdigest(1)).

use crate::reader::{LineRecorder, Reader, Reading, Recognition, TELLING_LINES};
use crate::serving::{entries, hold};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, LineClass, Login, LoginDaemon, LoginList};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "htpasswd",
    title: "password list of a web server",
    manual: "htpasswd(1), htdigest(1)",
    recognise,
    read: |export, _| read(export),
};

/// Beginnings of hashes that other lists of names and passwords do not have.
const CERTAIN: [&str; 6] = ["$apr1$", "$2y$", "{SHA}", "{SSHA}", "{PLAIN}", "$2b$"];

/// A line: the name, the realm of digest authentication, and what is stored of the password.
fn entry(text: &str) -> Option<(&str, Option<&str>, &str)> {
    let (name, rest) = text.split_once(':')?;
    if name.is_empty() || rest.is_empty() || name.contains(char::is_whitespace) {
        return None;
    }
    match rest.split_once(':') {
        None => Some((name, None, rest)),
        Some((realm, hash)) if is_digest(hash) => Some((name, Some(realm), hash)),
        // What follows the hash is a remark (ngx_http_auth_basic_module, auth_basic_user_file).
        Some((hash, _)) => {
            Some((name, None, hash)).filter(|_| CERTAIN.iter().any(|one| hash.starts_with(one)))
        }
    }
}

fn is_digest(hash: &str) -> bool {
    hash.len() == 32 && hash.bytes().all(|byte| byte.is_ascii_hexdigit())
}

fn recognise(export: &Export) -> Recognition {
    let mut lines = entries(export).take(TELLING_LINES).map(entry).peekable();
    let certain = |(_, realm, hash): (&str, Option<&str>, &str)| {
        realm.is_some() || CERTAIN.iter().any(|one| hash.starts_with(one))
    };
    let name = export.file_name();
    if lines.peek().is_some() && lines.all(|line| line.is_some_and(certain)) {
        Recognition::Content
    } else if [".htpasswd", "htpasswd", ".htdigest", "htdigest"]
        .iter()
        .any(|one| name == *one || (one.starts_with('.') && name.ends_with(one)))
    {
        Recognition::Name
    } else {
        Recognition::No
    }
}

fn read(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    for text in entries(export) {
        let origin = export.origin_of(text);
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let Some((user, realm, stored)) = entry(text) else {
            book.not_understood(origin, "expected `name:hash` or `name:realm:hash`");
            reading.facts.masked_places.push(origin);
            continue;
        };
        book.understood(origin);
        let clear = stored.strip_prefix("{PLAIN}");
        let kind = match (clear, realm) {
            (Some(_), _) => SecretKind::LoginPassword,
            (None, Some(_)) => SecretKind::DigestHash,
            (None, None) => SecretKind::PasswordHash,
        };
        let secret = hold(export, &mut reading.facts, clear.unwrap_or(stored), kind, user);
        reading.facts.logins.push(Login {
            user: user.to_owned(),
            list: LoginList::LocalFile(export.path().to_owned()),
            daemon: Some(LoginDaemon::Web),
            service: "web pages".into(),
            secret,
            certain: true,
            expires: None,
            origin,
        });
    }
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;
    use trevlin_model::account::HashScheme;

    #[test]
    fn lists_are_recognised_and_read() {
        for (path, text, wanted) in [
            ("d/portal.users", "ann:$apr1$abcd$0123456789abcdefghijkl\n", &["ann MD5 crypt"][..]),
            (
                "d/portal.users",
                "# crew\nann:$2y$05$abcdefghijklmnopqrstuv\nbob:{SHA}0DPiKuNIrrVmD8IUCuw1hQxNqZc=\n",
                &["ann bcrypt", "bob unsalted SHA-1"],
            ),
            ("d/digest", "ann:quay:939e7578ed9e3c518a452acee763bce9\n", &["ann MD5 digest"]),
            ("d/.htpasswd", "ann:abJnggxhB/yWI\nbob:{PLAIN}sesame\n", &["ann DES crypt", "bob in clear"]),
            ("d/etc/nginx/yard.htpasswd", "ann:$6$a$b\n", &["ann SHA-512 crypt"]),
            ("d/htpasswd", "ann:$apr1$a$b:a remark\n", &["ann MD5 crypt"]),
        ] {
            let export = Export::new(ExportId(0), path, text.into());
            let reader = crate::recognise(&export).reader.expect(text);
            assert_eq!(reader.name, "htpasswd", "{text}");
            let reading = read(&export);
            let told: Vec<String> = reading
                .facts
                .logins
                .iter()
                .map(|login| {
                    let held = login.secret.as_ref().unwrap();
                    let scheme = held.hash_scheme().map_or("in clear", HashScheme::name);
                    format!("{} {scheme}", login.user)
                })
                .collect();
            assert_eq!(told, wanted, "{text}");
        }
    }

    #[test]
    fn other_lists_are_left_to_their_readers() {
        for (path, text) in [
            ("d/ocpasswd", "ann:*:$5$a$b\n"),
            ("d/etc/shadow", "ann:$6$a$b:19000:0:99999:7:::\n"),
            ("d/rsyncd.secrets", "ann:sesame\n"),
            ("d/notes.txt", "ann:sesame\n"),
            ("d/etc/mosquitto/passwd", "ann:$7$101$abc$def\n"),
        ] {
            let export = Export::new(ExportId(0), path, text.into());
            assert_ne!(
                crate::recognise(&export).reader.map(|reader| reader.name),
                Some("htpasswd"),
                "{path}"
            );
        }
    }
}
