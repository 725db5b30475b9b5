//! Public keys of the SSH: `authorized_keys` and the `.pub` files of servers (sshd(8), AUTHORIZED_KEYS FILE FORMAT).

use crate::reader::{LineRecorder, Reader, Reading, Recognition, TELLING_LINES};
use base64::Engine;
use trevlin_model::Export;
use trevlin_model::certificate::{KeyAlgorithm, PublicKey};
use trevlin_model::ssh_key::{SshKey, SshKeyUse};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "ssh-keys",
    title: "authorized SSH keys",
    manual: "sshd(8)",
    recognise,
    read: |export, _| read(export),
};

/// Beginnings of the names of key kinds (sshd(8)).
const KINDS: [&str; 6] = ["ssh-rsa", "ssh-dss", "ssh-ed25519", "ecdsa-sha2-", "sk-ssh-", "sk-ecdsa-"];

/// Options before a key (sshd(8)), up to any `=`; those that begin with `no-` negate others.
const OPTIONS: [&str; 17] = [
    "agent-forwarding",
    "cert-authority",
    "command",
    "environment",
    "expiry-time",
    "from",
    "no-touch-required",
    "permitlisten",
    "permitopen",
    "port-forwarding",
    "principals",
    "pty",
    "restrict",
    "tunnel",
    "user-rc",
    "verify-required",
    "x11-forwarding",
];

fn is_option(text: &str) -> bool {
    let name = text.split('=').next().unwrap_or(text).to_ascii_lowercase();
    OPTIONS.contains(&name.as_str()) || name.strip_prefix("no-").is_some_and(|rest| OPTIONS.contains(&rest))
}

fn is_kind(word: &str) -> bool {
    KINDS.iter().any(|kind| word.starts_with(kind))
}

/// Options, kind, key and comment of a line; options come first where the line does not begin with a kind.
fn split(line: &str) -> Option<(&str, &str, &str, &str)> {
    let (options, rest) = if is_kind(line) {
        ("", line)
    } else {
        let mut quoted = false;
        let mut before = ' ';
        let end = line.char_indices().find_map(|(at, letter)| {
            quoted ^= letter == '"' && before != '\\';
            before = letter;
            (matches!(letter, ' ' | '\t') && !quoted).then_some(at)
        })?;
        (&line[..end], line[end..].trim_start())
    };
    // Any other line begins with a host name: lists of known hosts grant no login.
    if !split_options(options).into_iter().all(is_option) {
        return None;
    }
    let mut words = rest.splitn(2, [' ', '\t']);
    let kind = words.next().filter(|kind| is_kind(kind))?;
    let rest = words.next()?.trim_start();
    let (key, comment) = rest.split_once([' ', '\t']).unwrap_or((rest, ""));
    Some((options, kind, key, comment.trim()))
}

fn recognise(export: &Export) -> Recognition {
    let mut lines = export
        .lines()
        .take(TELLING_LINES)
        .map(|line| line.text.trim())
        .filter(|text| !text.is_empty() && !text.starts_with('#'))
        .peekable();
    if lines.peek().is_some()
        && lines.all(|text| split(text).is_some_and(|(_, _, key, _)| key.starts_with("AAAA")))
    {
        return Recognition::Content;
    }
    let name = export.file_name();
    if name.starts_with("authorized_keys") { Recognition::Name } else { Recognition::No }
}

/// The user whose file it is, by its place: `home/ann/.ssh/authorized_keys`, `root/.ssh/…`, `authorized_keys/ann`.
fn user(path: &str) -> Option<String> {
    let parts: Vec<&str> = path.split('/').collect();
    let at = parts.iter().rposition(|part| *part == ".ssh");
    match at {
        Some(at) if at > 0 => Some(parts[at - 1].to_owned()),
        Some(_) => None,
        None => {
            let folder = parts.len().checked_sub(2).map(|at| parts[at])?;
            let stem = parts.last()?;
            folder.starts_with("authorized_keys").then(|| stem.trim_end_matches(".pub").to_owned())
        }
    }
}

fn read(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    let host = export.file_name().starts_with("ssh_host_");
    let user = user(export.path());
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let origin = export.origin_of(text);
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let parsed = split(text).and_then(|parts| Some((parts, parse(parts.1, parts.2)?)));
        let Some(((options, kind, _, comment), key)) = parsed else {
            book.not_understood(
                origin,
                "expected a key type, the key in Base64, and a comment; sshd ignores such a line",
            );
            continue;
        };
        book.understood(origin);
        let options = split_options(options);
        let has = |name: &str| options.iter().any(|one| one.eq_ignore_ascii_case(name));
        let value = |name: &str| {
            options.iter().find_map(|one| {
                let (found, value) = one.split_once('=')?;
                found.eq_ignore_ascii_case(name).then(|| value.trim_matches('"').to_owned())
            })
        };
        // A private key pasted by mistake is caught by the reader for private keys.
        let purpose = match (host, has("cert-authority")) {
            (true, _) => SshKeyUse::Host,
            (_, true) => SshKeyUse::Authority,
            _ => SshKeyUse::Authorized,
        };
        // A public key beside its private key grants no login.
        let lets_in = host
            || export.file_name().contains("authorized_keys")
            || export.path().contains("authorized_keys.d/")
            || !export.file_name().ends_with(".pub");
        if lets_in {
            reading.facts.ssh_keys.push(SshKey {
                purpose,
                user: user.clone().filter(|_| !host),
                kind: kind.to_owned(),
                key,
                from: value("from"),
                limited: value("command").is_some(),
                comment: crate::announced::masked(comment),
                origin,
            });
        }
    }
    reading
}

/// Options at their commas; commas in quotes stay.
fn split_options(text: &str) -> Vec<&str> {
    let (mut found, mut quoted, mut from, mut before) = (Vec::new(), false, 0, ' ');
    for (at, letter) in text.char_indices() {
        quoted ^= letter == '"' && before != '\\';
        if letter == ',' && !quoted {
            found.push(&text[from..at]);
            from = at + 1;
        }
        before = letter;
    }
    found.push(&text[from..]);
    found.retain(|one| !one.is_empty());
    found
}

/// Algorithm and size from the key's own form: fields with their length in front (RFC 4253, 6.6; RFC 5656, 3.1).
fn parse(kind: &str, key: &str) -> Option<PublicKey> {
    let blob = base64::engine::general_purpose::STANDARD.decode(key).ok()?;
    let mut rest = blob.as_slice();
    let mut field = || {
        let (length, after) = rest.split_first_chunk::<4>()?;
        let (field, after) = after.split_at_checked(u32::from_be_bytes(*length) as usize)?;
        rest = after;
        Some(field)
    };
    // The name inside has to be the one outside.
    if field()? != kind.as_bytes() {
        return None;
    }
    // A certificate carries a number that is used once before the key.
    if kind.contains("-cert-v01@") {
        field()?;
    }
    let base = kind.trim_start_matches("sk-");
    let (algorithm, bits) = if base.starts_with("ssh-rsa") {
        field()?;
        (KeyAlgorithm::Rsa, bits(field()?))
    } else if base.starts_with("ssh-dss") {
        (KeyAlgorithm::Dsa, bits(field()?))
    } else if base.starts_with("ssh-ed25519") {
        if field()?.len() != 32 {
            return None;
        }
        (KeyAlgorithm::Ed25519, 256)
    } else {
        let curve = field()?;
        let size = [(b"nistp256".as_slice(), 256), (b"nistp384", 384), (b"nistp521", 521)];
        field()?;
        (KeyAlgorithm::Ec, size.iter().find(|(name, _)| *name == curve)?.1)
    };
    Some(PublicKey { algorithm, bits })
}

/// Bits of a number without its leading zeros.
fn bits(number: &[u8]) -> u32 {
    let zeros = number.iter().take_while(|byte| **byte == 0).count();
    let significant = &number[zeros..];
    significant.first().map_or(0, |first| significant.len() as u32 * 8 - first.leading_zeros())
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{ExportId, LineClass};

    const ED: &str = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIKd1PRu2PvbkEQnfsBcsz5Fbzx5c0dLhZBFRBhVbLn4v";

    fn of(path: &str, text: &str) -> Reading {
        let export = Export::new(ExportId(0), path, text.into());
        assert_eq!(crate::recognise(&export).reader.map(|reader| reader.name), Some("ssh-keys"), "{text}");
        read(&export)
    }

    #[test]
    fn lines() {
        for (path, line, wanted) in [
            (
                "d/home/ann/.ssh/authorized_keys",
                format!("{ED} ann@desk"),
                "Authorized ann Ed25519 256 - false ann@desk",
            ),
            (
                "d/root/.ssh/authorized_keys",
                format!("from=\"10.4.0.0/24,!10.4.0.9\",command=\"say \\\"a, b\\\"\" {ED}"),
                "Authorized root Ed25519 256 10.4.0.0/24,!10.4.0.9 true ",
            ),
            (
                "d/authorized_keys",
                format!("cert-authority,restrict {ED}"),
                "Authority - Ed25519 256 - false ",
            ),
            ("d/etc/ssh/authorized_keys.d/ann", ED.into(), "Authorized ann Ed25519 256 - false "),
            ("d/etc/ssh/ssh_host_ed25519_key.pub", ED.into(), "Host - Ed25519 256 - false "),
        ] {
            let reading = of(path, &line);
            let one = &reading.facts.ssh_keys[0];
            let told = format!(
                "{:?} {} {:?} {} {} {} {}",
                one.purpose,
                one.user.as_deref().unwrap_or("-"),
                one.key.algorithm,
                one.key.bits,
                one.from.as_deref().unwrap_or("-"),
                one.limited,
                one.comment
            );
            assert_eq!(told, wanted, "{line}");
        }
        assert!(
            of("d/home/ann/.ssh/id_ed25519.pub", ED).facts.ssh_keys.is_empty(),
            "a key pair lets nobody in"
        );
    }

    #[test]
    fn what_is_no_key_is_told() {
        let text = format!(
            "{ED}\n# {ED}\nssh-ed25519 AAAAC3NzaC1lZDI1NTE5\nssh-rsa AAAAC3NzaC1lZDI1NTE5AAAAIKd1 x\n"
        );
        let reading = of("d/home/ann/.ssh/authorized_keys", &text);
        assert_eq!((reading.facts.ssh_keys.len(), reading.ledger.count(LineClass::NotUnderstood)), (1, 2));
    }
}
