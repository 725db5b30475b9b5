//! Accounts: `passwd`, `shadow` and `group` (passwd(5), shadow(5), group(5)).

use crate::reader::{LineRecorder, Reader, Reading, Recognition, TELLING_LINES};
use std::sync::Arc;
use trevlin_model::account::{Account, HashScheme, ShadowEntry, StoredPassword, UserGroup};
use trevlin_model::login_source::{Admission, LoginSource, LoginSourceUse};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Expiry, Export, Origin, Secret, SecretRecord, Setting};

/// Accounts.
pub(crate) const PASSWD: Reader = Reader {
    name: "passwd",
    title: "list of accounts",
    manual: "passwd(5)",
    recognise: |export| recognise(export, "passwd", 7, is_passwd),
    read: |export, _| read(export, 7, passwd),
};

/// Password hashes.
pub(crate) const SHADOW: Reader = Reader {
    name: "shadow",
    title: "list of password hashes",
    manual: "shadow(5)",
    recognise: |export| recognise(export, "shadow", 9, is_shadow),
    read: |export, _| read(export, 9, shadow),
};

/// Groups.
pub(crate) const GROUP: Reader = Reader {
    name: "group",
    title: "list of groups",
    manual: "group(5)",
    recognise: |export| recognise(export, "group", 4, is_group),
    read: |export, _| read(export, 4, group),
};

fn is_passwd(fields: &[&str]) -> bool {
    fields[2].parse::<u32>().is_ok() && fields[3].parse::<u32>().is_ok() && fields[5].starts_with('/')
}

fn is_shadow(fields: &[&str]) -> bool {
    fields[2..].iter().all(|field| field.parse::<i64>().is_ok() || field.is_empty())
}

fn is_group(fields: &[&str]) -> bool {
    fields[2].parse::<u32>().is_ok() && !fields[3].contains([' ', '/'])
}

fn recognise(export: &Export, name: &str, count: usize, fits: fn(&[&str]) -> bool) -> Recognition {
    let (mut found, mut first_fits) = (0, true);
    for line in export
        .lines()
        .take(TELLING_LINES)
        .filter(|line| !line.text.trim().is_empty() && !line.text.starts_with('#'))
    {
        let is_entry = || fits(&line.text.split(':').collect::<Vec<_>>());
        if memchr::memchr_iter(b':', line.text.as_bytes()).count() + 1 != count || !is_entry() {
            (found, first_fits) = (0, found > 0);
            break;
        }
        found += 1;
    }
    let file = export.file_name();
    if found >= 3 {
        Recognition::Content
    } else if first_fits && (file == name || file == format!("{name}.txt")) {
        Recognition::Name
    } else {
        Recognition::No
    }
}

type Take = fn(&Export, &[&str], &mut Reading) -> Result<(), &'static str>;

fn read(export: &Export, count: usize, take: Take) -> Reading {
    let mut reading = Reading::of(export);
    for line in export.lines() {
        let origin = export.origin_of(line.text);
        if line.text.trim().is_empty() || line.text.starts_with('#') {
            continue;
        }
        let fields: Vec<&str> = line.text.split(':').collect();
        if line.text.starts_with(['+', '-']) {
            // Accounts of another system, by the compatible notation (nsswitch.conf(5), compat mode).
            reading.facts.login_sources.extend(compatible(&fields, count, origin));
            LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere).understood(origin);
            continue;
        }
        let outcome = if fields.len() == count {
            take(export, &fields, &mut reading)
        } else {
            Err("a wrong number of fields")
        };
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        match outcome {
            Ok(()) => book.understood(origin),
            // A line of the wrong form may hold a hash, so nothing of it is repeated.
            Err(why) => {
                book.not_understood(origin, format!("{why}; expected {count} fields with `:` between them"));
                reading.facts.masked_places.push(origin);
            }
        }
    }
    reading
}

/// Accounts that a line of `passwd` takes from NIS: all of them, one, or those of a netgroup. Nothing for lines that leave some out, for those of
/// other files, and for accounts that the line gives no shell.
fn compatible(fields: &[&str], count: usize, origin: Origin) -> Option<LoginSource> {
    let name = fields.first()?.strip_prefix('+').filter(|_| count == 7)?;
    let shell = fields.get(6).map_or("", |shell| shell.trim());
    if shell.ends_with("/nologin") || shell.ends_with("/false") {
        return None;
    }
    let admits = match name {
        "" => Admission::Everybody,
        name => Admission::Named(vec![name.to_owned()]),
    };
    let admits = Setting::Stated { value: admits, origin };
    let mut source = LoginSource::new("passwd", "NIS", LoginSourceUse::AccountsAndPasswords, admits, origin);
    source.name_service = Some("compat".to_owned());
    Some(source)
}

/// The password field. The origin is that of the field.
fn password(export: &Export, owner: &str, field: &str, reading: &mut Reading) -> StoredPassword {
    let hash = field.trim_start_matches('!');
    match field {
        "" => return StoredPassword::Empty,
        "x" => return StoredPassword::Elsewhere,
        _ if hash.is_empty() || hash.starts_with('*') => return StoredPassword::Locked,
        _ => {}
    }
    let origin = export.origin_of(hash);
    let held = Arc::new(SecretRecord {
        secret: Secret::new(hash),
        kind: SecretKind::PasswordHash,
        owner: owner.to_owned(),
        origin,
    });
    reading.facts.secrets.push(Arc::clone(&held));
    if field.starts_with('!') {
        StoredPassword::Locked
    } else {
        StoredPassword::Hash { scheme: HashScheme::of(hash), held }
    }
}

fn passwd(export: &Export, fields: &[&str], reading: &mut Reading) -> Result<(), &'static str> {
    let number = |text: &str| text.parse().map_err(|_| "a number is none");
    let (uid, gid) = (number(fields[2])?, number(fields[3])?);
    let password = password(export, fields[0], fields[1], reading);
    let (name, home, shell) =
        (fields[0].to_owned(), fields[5].trim().to_owned(), fields[6].trim().to_owned());
    reading.facts.accounts.push(Account {
        name,
        home,
        uid,
        gid,
        shell,
        password,
        origin: export.origin_of(fields[0]),
    });
    Ok(())
}

fn shadow(export: &Export, fields: &[&str], reading: &mut Reading) -> Result<(), &'static str> {
    let password = password(export, fields[0], fields[1], reading);
    // The eighth field counts days (shadow(5)); empty means that the account does not expire.
    let expires = fields.get(7).and_then(|field| Some((field.trim().parse().ok()?, *field)));
    reading.facts.shadow.push(ShadowEntry {
        name: fields[0].to_owned(),
        password,
        expires: expires.map(|(day, field)| Expiry { day, origin: export.origin_of(field) }),
        origin: export.origin_of(fields[0]),
    });
    Ok(())
}

fn group(export: &Export, fields: &[&str], reading: &mut Reading) -> Result<(), &'static str> {
    let gid = fields[2].parse().map_err(|_| "a number is none")?;
    // Holders of its password may join a group (gpasswd(1)).
    password(export, fields[0], fields[1], reading);
    let members = fields[3].trim().split(',').filter(|name| !name.is_empty()).map(str::to_owned).collect();
    reading.facts.groups.push(UserGroup {
        name: fields[0].to_owned(),
        gid,
        role: false,
        members,
        origin: export.origin_of(fields[0]),
    });
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reader::ReadContext;
    use trevlin_model::{ExportId, LineClass};

    fn of(reader: &Reader, text: &str) -> Reading {
        let export = Export::new(ExportId(0), "x", text.into());
        (reader.read)(&export, &ReadContext::default())
    }

    #[test]
    fn accounts_and_groups() {
        let reading = of(
            &PASSWD,
            "root:x:0:0:root:/root:/bin/bash\nann::1000:1000:,,,:/home/ann:\nftp:*:9:9::/srv:/usr/sbin/nologin\nbad:x:y:0:::\nshort\n",
        );
        let told: Vec<_> =
            reading.facts.accounts.iter().map(|one| (one.name.as_str(), one.uid, one.has_shell())).collect();
        assert_eq!(told, [("root", 0, true), ("ann", 1000, true), ("ftp", 9, false)]);
        assert!(matches!(reading.facts.accounts[1].password, StoredPassword::Empty));
        assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 2);
        let reading = of(&GROUP, "wheel:x:10:ann,bob\nempty:x:11:\n");
        assert_eq!(reading.facts.groups[0].members, ["ann", "bob"]);
        assert!(reading.facts.groups[1].members.is_empty());
    }

    #[test]
    fn accounts_of_nis() {
        let text = "root:x:0:0:root:/root:/bin/bash\n+ann::::::\n+@crew::::::/bin/sh\n-bob::::::\n+old::::::/sbin/nologin\n+::::::\n";
        let reading = of(&PASSWD, text);
        let all = reading.facts.login_sources.iter().map(|one| match one.admits.value() {
            Some(Admission::Named(names)) => names.join(","),
            _ => "all".to_owned(),
        });
        assert_eq!(all.collect::<Vec<_>>(), ["ann", "@crew", "all"]);
        assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 0);
        assert!(of(&GROUP, "wheel:x:10:ann\n+:::\n").facts.login_sources.is_empty());
    }

    #[test]
    fn hashes() {
        let reading = of(
            &SHADOW,
            "root:*:1:0:9:7:::\nann:$6$s$abc:1:0:9:7:::\nbob:!$1$s$abc:1:0:9:7:::\ncid:!!:1:0:9:7:::\ndan::1:0:9:7:::\n",
        );
        let told: Vec<_> = reading
            .facts
            .shadow
            .iter()
            .map(|one| match &one.password {
                StoredPassword::Empty => "empty",
                StoredPassword::Locked => "locked",
                StoredPassword::Elsewhere => "elsewhere",
                StoredPassword::Hash { scheme, .. } => scheme.name(),
            })
            .collect();
        assert_eq!(told, ["locked", "SHA-512 crypt", "locked", "locked", "empty"]);
        assert_eq!(reading.facts.secrets.len(), 2, "a locked hash is a secret all the same");
        assert!(!format!("{reading:?}").contains("$6$"));
    }

    #[test]
    fn other_files_of_these_names_are_not_claimed() {
        for (path, text, claimed) in [
            ("etc/passwd", "root:x:0:0:root:/root:/bin/bash\n", true),
            ("etc/passwd", "root:x:0:0:root:/root:/bin/bash\nbroken\n", true),
            ("mods-available/passwd", "passwd etc_smbpasswd {\n\tfilename = x\n}\n", false),
            ("iproute2/group", "0\tdefault\n", false),
        ] {
            let export = Export::new(ExportId(0), path, text.into());
            let ours = crate::recognise(&export)
                .reader
                .is_some_and(|one| [PASSWD.name, GROUP.name].contains(&one.name));
            assert_eq!(ours, claimed, "{path}");
        }
    }

    #[test]
    fn told_apart_by_their_form() {
        let passwd = "root:x:0:0:root:/root:/bin/bash\na:x:1:1::/a:/bin/sh\nb:x:2:2::/b:/bin/sh\n";
        let shadow = "root:*:19000:0:99999:7:::\na:!:19000:0:99999:7:::\nb:!:19000::::::\n";
        let group = "root:x:0:\na:x:1:ann\nb:x:2:ann,bob\n";
        for (text, wanted) in [(passwd, "passwd"), (shadow, "shadow"), (group, "group")] {
            let export = Export::new(ExportId(0), "dump.txt", text.into());
            assert_eq!(crate::recognise(&export).reader.map(|reader| reader.name), Some(wanted));
        }
    }
}
