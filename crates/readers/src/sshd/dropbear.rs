//! Settings of Dropbear outside UCI: `/etc/default/dropbear` and `/etc/dropbear/initramfs/dropbear.conf`, which hold the daemon's options
//! (dropbear(8)).

use crate::programs::options::{Word, words_of};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use trevlin_model::ssh::SshServer;
use trevlin_model::{Export, LineClass, Origin};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "dropbear",
    title: "SSH server configuration (Dropbear)",
    manual: "dropbear(8)",
    recognise: |export| {
        let tells = |text: &str| text.trim_start_matches(['#', ' ']).starts_with("DROPBEAR_");
        let named = export.path().ends_with("default/dropbear")
            || export.path().contains("dropbear") && matches!(export.file_name(), "dropbear.conf" | "config");
        match (export.lines().any(|line| tells(line.text)), named) {
            (true, true) => Recognition::Content,
            (true, false) if export.file_name().contains("dropbear") => Recognition::Content,
            (false, true) => Recognition::Name,
            _ => Recognition::No,
        }
    },
    read: |export, _| read(export),
};

/// Variables of the start scripts that decide nothing about logins.
const IGNORED: [&str; 7] = [
    "DROPBEAR_BANNER",
    "DROPBEAR_RSAKEY",
    "DROPBEAR_DSSKEY",
    "DROPBEAR_ECDSAKEY",
    "DROPBEAR_ED25519KEY",
    "DROPBEAR_RECEIVE_WINDOW",
    "IFDOWN",
];

/// Options of the daemon that take a value (dropbear(8)).
const WITH_VALUE: [&str; 12] = ["-b", "-c", "-d", "-D", "-G", "-I", "-K", "-p", "-P", "-r", "-T", "-W"];

/// Effect of the options.
#[derive(Default)]
struct Options {
    ports: Vec<(String, Origin)>,
    no_passwords: Option<Origin>,
    no_root_passwords: Option<Origin>,
    no_root: Option<Origin>,
    blank: Option<Origin>,
    both: Option<Origin>,
    gateway: Option<Origin>,
    command: Option<(String, Origin)>,
    attempts: Option<(String, Origin)>,
    group: Option<(String, Origin)>,
    /// Whether another program listens for it.
    behind: bool,
}

fn read(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut options = Options::default();
    let (mut off, mut stated) = (false, false);
    for line in export.lines() {
        let text = line.text.trim();
        let Some((name, value)) = text.split_once('=').filter(|_| !text.starts_with('#')) else {
            if !text.is_empty() && !text.starts_with('#') {
                book.not_understood(export.origin_of(text), "expected `NAME=\"value\"`");
            }
            continue;
        };
        let origin = export.origin_of(text);
        let value = value.trim().trim_matches(['"', '\'']);
        book.understood(origin);
        stated = true;
        match name.trim() {
            "NO_START" => off = value != "0",
            "DROPBEAR_PORT" if value != "22" => options.ports.push((value.to_owned(), origin)),
            "DROPBEAR_PORT" => {}
            "DROPBEAR_EXTRA_ARGS" | "DROPBEAR_OPTIONS" => {
                let words: Vec<&str> = value.split_whitespace().collect();
                options.take(&words_of(&words, origin), &mut book);
            }
            other if IGNORED.contains(&other) => book.class(origin, LineClass::Ignored),
            other => book.not_understood(origin, format!("`{other}` is not a variable of its start scripts")),
        }
    }
    if off || !stated {
        return reading;
    }
    let server = options.server(export.origin(0..0), export.origin_of(export.text()));
    reading.facts.ssh_servers.push(server);
    reading
}

/// Facts of a command; behind a super-server it does not listen by itself.
pub(crate) fn started<'a>(
    words: &[Word<'a>],
    origin: Origin,
    export: &'a Export,
    _: &ReadContext<'a>,
    reading: &mut Reading,
) {
    let mut options = Options::default();
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    options.take(&words[1..], &mut book);
    if !options.behind {
        reading.facts.ssh_servers.push(options.server(origin, origin));
    }
}

impl Options {
    /// The server, each setting in the words of sshd_config(5); `start` is the line of those that no option states.
    fn server(mut self, start: Origin, origin: Origin) -> SshServer {
        let options = &mut self;
        let word = |off: Option<Origin>| if off.is_some() { "no" } else { "yes" };
        let root = match (options.no_root, options.no_passwords.or(options.no_root_passwords)) {
            (Some(_), _) => "no",
            (None, Some(_)) => "prohibit-password",
            (None, None) => "yes",
        };
        let root_line = options.no_root.or(options.no_passwords).or(options.no_root_passwords);
        let mut statements = vec![
            (
                "passwordauthentication",
                word(options.no_passwords).to_owned(),
                options.no_passwords.unwrap_or(start),
            ),
            ("kbdinteractiveauthentication", "no".into(), start),
            ("pubkeyauthentication", "yes".into(), start),
            ("permitrootlogin", root.into(), root_line.unwrap_or(start)),
            (
                "permitemptypasswords",
                if options.blank.is_some() { "yes" } else { "no" }.into(),
                options.blank.unwrap_or(start),
            ),
            (
                "gatewayports",
                if options.gateway.is_some() { "yes" } else { "no" }.into(),
                options.gateway.unwrap_or(start),
            ),
        ];
        let (attempts, line) = options.attempts.take().unwrap_or(("10".into(), start));
        statements.push(("maxauthtries", attempts, line));
        if let Some(line) = options.both {
            statements.push(("authenticationmethods", "publickey,password".into(), line));
        }
        statements.extend(options.command.take().map(|(command, line)| ("forcecommand", command, line)));
        statements.extend(options.group.take().map(|(group, line)| ("allowgroups", group, line)));
        if options.ports.is_empty() {
            options.ports.push(("22".into(), start));
        }
        for (port, line) in std::mem::take(&mut options.ports) {
            // `[address:]port`.
            let number = port.rsplit(':').next().unwrap_or(&port).to_owned();
            statements.push(("port", number, line));
            if port.contains(':') {
                statements.push(("listenaddress", port, line));
            }
        }
        super::stated("Dropbear", origin, statements)
    }

    fn take(&mut self, words: &[Word<'_>], book: &mut LineRecorder<'_>) {
        let mut words = words.iter();
        while let Some(given) = words.next() {
            let (word, origin) = (given.text.as_ref(), given.origin);
            let takes = WITH_VALUE.iter().find(|name| word.starts_with(**name));
            if let Some(name) = takes {
                let value = word[name.len()..].trim();
                let value = match value {
                    "" => words.next().map_or("", |next| next.text.as_ref()),
                    value => value,
                };
                match *name {
                    "-p" => self.ports.push((value.to_owned(), origin)),
                    "-c" => self.command = Some((value.to_owned(), origin)),
                    "-T" => self.attempts = Some((value.to_owned(), origin)),
                    "-G" => self.group = Some((value.to_owned(), origin)),
                    _ => {}
                }
                continue;
            }
            // Several may stand behind one hyphen.
            let letters = word.strip_prefix('-').unwrap_or_default();
            if letters.is_empty() {
                book.not_understood(origin, format!("`{word}` is no option of dropbear(8)"));
            }
            for letter in letters.chars() {
                match letter {
                    's' => self.no_passwords = Some(origin),
                    'g' => self.no_root_passwords = Some(origin),
                    'w' => self.no_root = Some(origin),
                    'B' => self.blank = Some(origin),
                    't' => self.both = Some(origin),
                    'a' => self.gateway = Some(origin),
                    'i' => self.behind = true,
                    'R' | 'F' | 'E' | 'm' | 'j' | 'k' | 'e' | 'v' | 'z' => {}
                    _ => book.not_understood(origin, format!("`-{letter}` is no option of dropbear(8)")),
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;
    use trevlin_model::ssh::SshConnection;

    #[test]
    fn options() {
        for (text, wanted) in [
            ("DROPBEAR_PORT=22\n", "yes yes no 22"),
            ("NO_START=0\nDROPBEAR_PORT=2222\nDROPBEAR_EXTRA_ARGS=\"-s -w\"\n", "no no no 2222"),
            ("DROPBEAR_EXTRA_ARGS='-g'\n", "yes prohibit-password no 22"),
            ("DROPBEAR_EXTRA_ARGS=\"-sjk -p 10.4.0.1:2200\"\n", "no prohibit-password no 2200"),
            (
                "DROPBEAR_OPTIONS=\"-I 180 -j -k -p 2222 -s -c cryptroot-unlock\"\n",
                "no prohibit-password no 2222",
            ),
            ("DROPBEAR_EXTRA_ARGS=\"-B\"\n", "yes yes yes 22"),
            ("NO_START=1\nDROPBEAR_PORT=22\n", ""),
            ("#DROPBEAR_EXTRA_ARGS=\"-s\"\n", ""),
        ] {
            let export = Export::new(ExportId(0), "d/etc/default/dropbear", text.into());
            assert_eq!(crate::recognise(&export).reader.map(|one| one.name), Some("dropbear"), "{text}");
            let reading = read(&export);
            let told = reading.facts.ssh_servers.first().map(|server| {
                let value =
                    |name: &str| server.stated(name, &SshConnection::default()).map(|one| one.0.join(" "));
                ["passwordauthentication", "permitrootlogin", "permitemptypasswords", "port"]
                    .map(|name| value(name).unwrap_or_default())
                    .join(" ")
            });
            assert_eq!(told.unwrap_or_default(), wanted, "{text}");
        }
        let export =
            Export::new(ExportId(0), "d/etc/default/dropbear", "DROPBEAR_EXTRA_ARGS=\"-s -y\"\nX=1\n".into());
        assert_eq!(read(&export).ledger.count(LineClass::NotUnderstood), 2);
    }
}
