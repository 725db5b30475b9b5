//! The user file of FreeRADIUS (users(5)): a name and what to hold the request against, then indented what to answer.

use super::sections::bare;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use jiff::civil::Date;
use jiff::fmt::strtime::BrokenDownTime;
use std::net::{IpAddr, Ipv4Addr};
use std::sync::Arc;
use trevlin_model::Expiry;
use trevlin_model::radius::RadiusEntry;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, Login, LoginList, Origin, Secret, SecretRecord};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "radius-users", title: "RADIUS users file", manual: "users(5)", recognise, read };

/// Attributes that hold a password (rlm_pap(5)), and whether it is a hash.
const PASSWORDS: [(&str, bool); 18] = [
    ("Cleartext-Password", false),
    ("User-Password", false),
    ("Password", false),
    ("Password-With-Header", true),
    ("Crypt-Password", true),
    ("NT-Password", true),
    ("LM-Password", true),
    ("MD5-Password", true),
    ("SMD5-Password", true),
    ("SHA-Password", true),
    ("SHA1-Password", true),
    ("SSHA-Password", true),
    ("SSHA1-Password", true),
    ("SHA2-Password", true),
    ("SSHA2-512-Password", true),
    ("SSHA2-256-Password", true),
    ("PBKDF2-Password", true),
    ("TOTP-Secret", false),
];

/// Attributes that limit the rights of a user.
const LIMITS: [&str; 5] =
    ["Simultaneous-Use", "Session-Timeout", "Idle-Timeout", "Login-Time", "Calling-Station-Id"];

/// One item: attribute, operator, value as written.
struct Item<'a> {
    attribute: &'a str,
    operator: &'a str,
    value: &'a str,
}

/// Whether an attribute holds a password; names of attributes have no case.
fn is_password(attribute: &str) -> bool {
    PASSWORDS.iter().any(|(name, _)| name.eq_ignore_ascii_case(attribute))
}

/// The first day, since 1970-01-01, on which an account with this expiration is refused (rlm_expiration): a date such as `1 Mar 2026`,
/// `Mar 1 2026` or `2026-03-01`, with a time of day or without.
fn day_of(text: &str) -> Option<i64> {
    const FORMATS: [&str; 5] = ["%Y-%m-%d", "%d %b %Y", "%d %B %Y", "%b %d %Y", "%B %d %Y"];
    let text = text.replace(',', " ");
    let (date, rest) = FORMATS.iter().find_map(|format| {
        let (parts, read) = BrokenDownTime::parse_prefix(format, text.trim()).ok()?;
        let rest = text.trim().get(read..)?;
        let ends = rest.is_empty() || rest.starts_with([' ', 'T']);
        Some((parts.to_date().ok()?, rest)).filter(|_| ends)
    })?;
    let midnight = rest.bytes().all(|one| matches!(one, b'0' | b':' | b'T' | b' '));
    let days = i64::from((date - Date::constant(1970, 1, 1)).get_days());
    Some(if midnight { days } else { days + 1 })
}

/// Splits a list of items at its commas; quoted commas stay.
fn items(text: &str) -> Vec<Item<'_>> {
    let (mut found, mut quote, mut from) = (Vec::new(), None, 0);
    let mut add = |piece: &str, start: usize| {
        let piece = &text[start..start + piece.len()];
        let Some(at) = piece.find(|letter: char| "=:+!<>~^*".contains(letter)) else { return };
        let end = piece[at..]
            .find(|letter: char| !"=:+!<>~^*".contains(letter))
            .map_or(piece.len(), |end| at + end);
        let (attribute, operator) = (piece[..at].trim(), &piece[at..end]);
        found.push(Item { attribute, operator, value: piece[end..].trim() });
    };
    for (at, letter) in text.char_indices() {
        match (quote, letter) {
            (Some(open), _) if open == letter => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'') => quote = Some(letter),
            (None, '#') => {
                add(&text[from..at], from);
                return found;
            }
            (None, ',') => {
                add(&text[from..at], from);
                from = at + 1;
            }
            _ => {}
        }
    }
    add(&text[from..], from);
    found
}

/// The name at the start of an entry, and the rest.
fn name(line: &str) -> Option<(&str, &str)> {
    match line.chars().next()? {
        quote @ ('"' | '\'') => line[1..].split_once(quote),
        _ => Some(line.split_once([' ', '\t']).unwrap_or((line, ""))),
    }
}

/// Where the server has the file: its own place, and those of older versions.
const PLACES: [&str; 5] = [
    "mods-config/files/authorize",
    "raddb/users",
    "freeradius/users",
    "freeradius/3.0/users",
    "freeradius/2.0/users",
];

fn recognise(export: &Export) -> Recognition {
    let entry = |text: &str| {
        let known = |item: &Item<'_>| {
            let decides = is_password(item.attribute) || item.attribute.eq_ignore_ascii_case("Auth-Type");
            decides && matches!(item.operator, ":=" | "==" | "=" | "+=")
        };
        !text.starts_with([' ', '\t', '#'])
            && name(text).is_some_and(|(_, rest)| items(rest).iter().any(known))
    };
    // A line such as `password = "y"` is found in many languages: the lines that begin an entry have to prevail.
    let (mut entries, mut others) = (0, 0);
    for line in export.lines().take(TELLING_LINES).map(|line| line.text.trim_end()) {
        if line.is_empty() || line.starts_with([' ', '\t', '#', '$']) {
            continue;
        }
        if entry(line) {
            entries += 1;
        } else if name(line).is_none_or(|(_, rest)| items(rest).is_empty()) {
            others += 1;
        }
    }
    if entries > others {
        Recognition::Content
    } else if PLACES.iter().any(|place| export.path().ends_with(place)) {
        Recognition::Name
    } else {
        Recognition::No
    }
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    for line in export.lines() {
        let text = line.text.trim_end();
        let origin = export.origin_of(text.trim());
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        if text.trim().is_empty() || text.trim_start().starts_with('#') {
            continue;
        }
        book.understood(origin);
        if text.starts_with("$INCLUDE") {
            continue;
        }
        if text.starts_with([' ', '\t']) {
            let addresses: Vec<_> =
                items(text.trim()).iter().filter_map(|item| address(export, item)).collect();
            let limits = items(text.trim())
                .into_iter()
                .filter(|item| LIMITS.iter().any(|name| name.eq_ignore_ascii_case(item.attribute)));
            let limits: Vec<_> =
                limits.map(|item| (item.attribute.to_owned(), bare(item.value).to_owned())).collect();
            match reading.facts.radius_entries.last_mut() {
                Some(entry) => {
                    entry.limits.extend(limits);
                    entry.addresses.extend(addresses);
                }
                None => book.not_understood(origin, "reply items precede the first name"),
            }
            continue;
        }
        match name(text) {
            Some((user, rest)) => take(export, user, rest, origin, &mut reading),
            None => {
                book.not_understood(origin, "the closing quotation mark of the name is missing");
                reading.facts.masked_places.push(origin);
            }
        }
    }
    reading
}

/// The address that an item gives its user. Two values leave the choice to the other end (RFC 2865, 5.8); a value with a plus
/// sign behind is the first of many (users(5)).
fn address(export: &Export, item: &Item<'_>) -> Option<(IpAddr, Origin)> {
    let given = ["Framed-IP-Address", "Framed-IPv6-Address"];
    given.iter().any(|name| name.eq_ignore_ascii_case(item.attribute)).then_some(())?;
    let address: IpAddr = bare(item.value).parse().ok()?;
    let chosen =
        matches!(address, IpAddr::V4(v4) if v4.is_broadcast() || v4 == Ipv4Addr::new(255, 255, 255, 254));
    (!chosen).then(|| (address, export.origin_of(item.value)))
}

fn take(export: &Export, user: &str, rest: &str, origin: Origin, reading: &mut Reading) {
    let mut entry = RadiusEntry {
        user: user.to_owned(),
        accepts: false,
        rejects: false,
        conditional: false,
        has_password: false,
        limits: Vec::new(),
        addresses: Vec::new(),
        origin,
    };
    let (mut secret, mut expires) = (None, None);
    for item in items(rest) {
        if let Some((attribute, hashed)) =
            PASSWORDS.iter().find(|(name, _)| name.eq_ignore_ascii_case(item.attribute))
        {
            let kind = if *hashed { SecretKind::PasswordHash } else { SecretKind::LoginPassword };
            let held = Arc::new(SecretRecord {
                secret: Secret::new(bare(item.value).replace("\\\"", "\"")),
                kind,
                owner: user.to_owned(),
                origin: export.origin_of(item.value),
            });
            reading.facts.secrets.push(Arc::clone(&held));
            if *attribute != "TOTP-Secret" {
                entry.has_password = true;
                secret = Some(held);
            }
        } else if item.attribute.eq_ignore_ascii_case("Auth-Type") {
            entry.accepts |= bare(item.value).eq_ignore_ascii_case("accept");
            entry.rejects |= bare(item.value).eq_ignore_ascii_case("reject");
        } else if item.attribute.eq_ignore_ascii_case("Expiration") {
            entry.limits.push((item.attribute.to_owned(), bare(item.value).to_owned()));
            expires =
                day_of(bare(item.value)).map(|day| Expiry { day, origin: export.origin_of(item.value) });
        } else if LIMITS.iter().any(|name| name.eq_ignore_ascii_case(item.attribute)) {
            entry.limits.push((item.attribute.to_owned(), bare(item.value).to_owned()));
        } else if item.operator != ":=" && item.operator != "+=" {
            entry.conditional = true;
        }
    }
    if secret.is_some() && !entry.rejects {
        reading.facts.logins.push(Login {
            user: if user == "DEFAULT" { "*".into() } else { user.to_owned() },
            list: LoginList::LocalFile(export.path().to_owned()),
            daemon: Some(trevlin_model::LoginDaemon::Radius),
            service: "RADIUS".into(),
            secret,
            certain: true,
            expires,
            origin,
        });
    }
    reading.facts.radius_entries.push(entry);
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{ExportId, LineClass};

    fn of(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/mods-config/files/authorize", text.into());
        assert_eq!(
            crate::recognise(&export).reader.map(|reader| reader.name),
            Some("radius-users"),
            "{text}"
        );
        read(&export, &ReadContext::default())
    }

    #[test]
    fn addresses_of_users() {
        let text = "ann Cleartext-Password := \"x\"\n\tFramed-IP-Address = 10.4.0.9,\n\tFramed-IPv6-Address = 2001:db8::9\n\
                    bob Cleartext-Password := \"y\"\n\tFramed-IP-Address = 255.255.255.254\n\
                    DEFAULT Service-Type == Framed-User\n\tFramed-IP-Address = 10.4.0.65+\n";
        let reading = of(text);
        let told: Vec<_> = reading
            .facts
            .radius_entries
            .iter()
            .map(|entry| entry.addresses.iter().map(|(address, _)| address.to_string()).collect::<Vec<_>>())
            .collect();
        assert_eq!(told, [vec!["10.4.0.9", "2001:db8::9"], vec![], vec![]]);
    }

    #[test]
    fn days_of_expiry() {
        for (text, day) in [
            ("1 Mar 2026", Some(20513)),
            ("01 March 2026", Some(20513)),
            ("Mar 1 2026", Some(20513)),
            ("2026-03-01", Some(20513)),
            ("2026-03-01T00:00:00", Some(20513)),
            ("1 Mar 2026 00:00", Some(20513)),
            ("1 Mar 2026 12:30:00", Some(20514)),
            ("1 Smarch 2026", None),
            ("31 Feb 2026", None),
            ("", None),
        ] {
            assert_eq!(day_of(text), day, "{text}");
        }
    }

    #[test]
    fn entries() {
        for (text, wanted) in [
            ("bob\tCleartext-Password := \"sesame, open\"\n", "bob password"),
            (
                "\"John Doe\" Cleartext-Password := 'sesame, open' # x\n\tReply-Message = \"hi, you\"\n",
                "John Doe password",
            ),
            ("DEFAULT Auth-Type := Accept\n", "DEFAULT accepts"),
            ("bob cleartext-password:=\"sesame, open\"\n", "bob password"),
            ("lame Auth-Type := Reject\n\tReply-Message = \"no\"\n", "lame rejects"),
            (
                "ann Cleartext-Password := \"sesame, open\", Simultaneous-Use := 1\n\tSession-Timeout = 3600,\n\tIdle-Timeout = 600\n",
                "ann password Simultaneous-Use=1 Session-Timeout=3600 Idle-Timeout=600",
            ),
            (
                "cid NAS-IP-Address == 10.4.0.9, Cleartext-Password := \"sesame, open\"\n",
                "cid password conditional",
            ),
        ] {
            let reading = of(text);
            let one = &reading.facts.radius_entries[0];
            let mut told = one.user.clone();
            for (is, word) in [
                (one.has_password, " password"),
                (one.accepts, " accepts"),
                (one.rejects, " rejects"),
                (one.conditional, " conditional"),
            ] {
                told.push_str(if is { word } else { "" });
            }
            told.extend(one.limits.iter().map(|(name, value)| format!(" {name}={value}")));
            assert_eq!(told, wanted, "{text}");
            assert_eq!(reading.facts.logins.len(), usize::from(one.has_password && !one.rejects));
            assert!(
                reading.facts.secrets.iter().all(|held| held.secret.same_as(&Secret::new("sesame, open")))
            );
            assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 0);
        }
    }

    #[test]
    fn what_is_wrong_keeps_its_secret() {
        let reading =
            of("\tIdle-Timeout = 3\n\"bob Cleartext-Password := sesame\nann Cleartext-Password := \"x\"\n");
        assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 2);
        assert_eq!((reading.facts.masked_places.len(), reading.facts.logins.len()), (1, 1));
    }
}
