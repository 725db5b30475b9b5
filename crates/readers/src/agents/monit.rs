//! `monitrc`: the pages of Monit, from which services of the device are started and stopped.
//!
//! Format: monit(1), "MONIT HTTPD". A client must come from a listed host where hosts are listed, and log in where logins are.

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, hold, mask_login};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "monit",
    title: "web interface of Monit",
    manual: "monit(1)",
    recognise: |export| {
        let folder = ["/monit/conf.d/", "/monit/conf-enabled/", "/monit/monitrc.d/", "/monit.d/"];
        match export.file_name() {
            "monitrc" | ".monitrc" | "monit.conf" => Recognition::Name,
            _ if folder.iter().any(|folder| export.path().contains(folder)) => Recognition::Name,
            _ => Recognition::No,
        }
    },
    read,
};

/// A statement: the word it begins with, and its words in order.
struct Statement<'a> {
    words: Vec<&'a str>,
    origin: Origin,
}

impl<'a> Statement<'a> {
    /// Whether a word is this one, whatever its capitals.
    fn is(&self, at: usize, wanted: &str) -> bool {
        self.words.get(at).is_some_and(|word| word.eq_ignore_ascii_case(wanted))
    }

    /// The word behind a name, with a colon or without, out of its quotes.
    fn behind(&self, name: &str) -> Option<&'a str> {
        let at = self.words.iter().position(|word| word.trim_end_matches(':').eq_ignore_ascii_case(name))?;
        self.words.get(at + 1).map(|word| serving::unquoted(word))
    }
}

/// Statements; lines that begin with no other continue the one before.
fn statements(export: &Export) -> Vec<Statement<'_>> {
    let mut found: Vec<Statement<'_>> = Vec::new();
    for line in export.lines() {
        let words = words(line.text);
        let Some(first) = words.first() else { continue };
        let begins = ["set", "check", "include"].iter().any(|word| word.eq_ignore_ascii_case(first));
        let origin = export.origin_of(line.text.trim());
        match found.last_mut().filter(|_| !begins) {
            Some(last) => {
                last.words.extend(words);
                last.origin.end = origin.end;
            }
            None => found.push(Statement { words, origin }),
        }
    }
    found
}

/// What may be set, and what may be checked (monit(1)).
const SETTINGS: [&str; 17] = [
    "alert",
    "daemon",
    "eventqueue",
    "expectbuffer",
    "fips",
    "idfile",
    "limits",
    "log",
    "logfile",
    "mail-format",
    "onreboot",
    "pidfile",
    "ssl",
    "statefile",
    "terminal",
    "tls",
    "init",
];
const KINDS: [&str; 9] =
    ["directory", "fifo", "file", "filesystem", "host", "network", "process", "program", "system"];

/// Words that begin a line of the statement about its pages.
const WORDS: [&str; 32] = [
    "address",
    "allow",
    "and",
    "checksum",
    "ciphers",
    "clientpemfile",
    "disable",
    "enable",
    "gid",
    "on",
    "options",
    "pemchain",
    "pemfile",
    "pemkey",
    "permission",
    "port",
    "read-only",
    "readonly",
    "selfsigned",
    "signature",
    "ssl",
    "the",
    "tls",
    "uid",
    "unixsocket",
    "use",
    "using",
    "verify",
    "version",
    "with",
    "{",
    "}",
];

/// Words that begin a further line of another statement.
const FURTHER: [&str; 52] = [
    "action",
    "address",
    "alert",
    "and",
    "as",
    "basedir",
    "but",
    "certificate",
    "content",
    "credentials",
    "depends",
    "directory",
    "else",
    "every",
    "exec",
    "expect",
    "for",
    "from:",
    "gid",
    "group",
    "hostname",
    "if",
    "interface",
    "matching",
    "message:",
    "mode",
    "noalert",
    "not",
    "on",
    "onreboot",
    "or",
    "password",
    "path",
    "pidfile",
    "port",
    "program",
    "protocol",
    "reminder",
    "restart",
    "send",
    "slots",
    "ssl",
    "start",
    "stop",
    "subject:",
    "then",
    "timeout",
    "tls",
    "uid",
    "username",
    "using",
    "with",
];

/// Reports further lines that begin with no word of monit(1); lines in braces or quotes are free.
fn continuations(export: &Export, one: &Statement<'_>, book: &mut LineRecorder<'_>) {
    let mut depth = 0i32;
    for (number, (text, first)) in lines_of(export, one).enumerate() {
        let free = number == 0 || depth > 0 || first.starts_with(['{', '}', '"', '\'']);
        let count = |sign: char| text.matches(sign).count() as i32;
        depth += count('{') - count('}');
        if !free && !FURTHER.contains(&first.to_ascii_lowercase().as_str()) {
            book.not_understood(export.origin_of(text), serving::unknown("monit(1)"));
        }
    }
}

/// Lines of a statement, with the first word of each.
fn lines_of<'a>(export: &'a Export, one: &Statement<'_>) -> impl Iterator<Item = (&'a str, &'a str)> {
    let (first, last) = export.lines_of(one.origin);
    (first..=last).filter_map(|number| {
        let text = export.line(number)?.text.trim();
        Some((text, *words(text).first()?))
    })
}

/// Words of a line. A quote holds words together, braces are words, and a sign in a word begins no comment.
fn words(text: &str) -> Vec<&str> {
    let (mut found, mut start, mut quote) = (Vec::new(), None, None);
    for (at, letter) in text.char_indices().chain([(text.len(), ' ')]) {
        if let Some(open) = quote {
            if letter == open {
                quote = None;
            }
            continue;
        }
        match letter {
            '#' if start.is_none() => break,
            '"' | '\'' => {
                quote = Some(letter);
                start.get_or_insert(at);
            }
            '{' | '}' | ',' | ';' => {
                found.extend(start.take().map(|from| &text[from..at]));
                if matches!(letter, '{' | '}') {
                    found.push(&text[at..=at]);
                }
            }
            letter if letter.is_whitespace() => found.extend(start.take().map(|from| &text[from..at])),
            _ => {
                start.get_or_insert(at);
            }
        }
    }
    found.extend(start.map(|from| &text[from..]).filter(|word| quote.is_some() && !word.is_empty()));
    found
}

fn included<'a>(line: &str, named_in: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    match words(line).as_slice() {
        [first, path, ..] if first.eq_ignore_ascii_case("include") => {
            around.find_all(serving::unquoted(path), named_in)
        }
        _ => Vec::new(),
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    let own = statements(export);
    for one in &own {
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let word = |at: usize| one.words.get(at).copied().unwrap_or_default().to_ascii_lowercase();
        match (word(0).as_str(), word(1).as_str()) {
            ("set", "httpd") => {
                book.understood(one.origin);
                for (text, first) in lines_of(export, one).skip(1) {
                    if !WORDS.contains(&first.trim_end_matches(':').to_ascii_lowercase().as_str()) {
                        book.not_understood(
                            export.origin_of(text),
                            serving::unknown("monit(1), MONIT HTTPD"),
                        );
                    }
                }
            }
            ("include", _) => book.understood(one.origin),
            ("set", "mailserver" | "mmonit") => {
                book.understood(one.origin);
                continuations(export, one, &mut book);
            }
            ("set", name) if SETTINGS.contains(&name) => continuations(export, one, &mut book),
            ("check", kind) if KINDS.contains(&kind) => continuations(export, one, &mut book),
            _ => book.not_understood(one.origin, "expected `set`, `check` or `include`; see monit(1)"),
        }
        secrets(export, one, &mut reading);
    }
    if around.reads_in(export, included) {
        return reading;
    }
    let mut all = own;
    let files: Vec<&Export> = all
        .iter()
        .filter(|one| one.words[0].eq_ignore_ascii_case("include"))
        .flat_map(|one| {
            one.words.get(1).map(|path| around.find_all(serving::unquoted(path), export)).unwrap_or_default()
        })
        .filter(|file| file.id() != export.id())
        .collect();
    for file in files {
        all.extend(statements(file));
    }
    if let Some(one) = all.iter().rfind(|one| one.is(0, "set") && one.is(1, "httpd")) {
        reading.facts.served.extend(served(one, &all, around));
    }
    reading
}

fn secrets(export: &Export, one: &Statement<'_>, reading: &mut Reading) {
    if !one.is(0, "set") {
        return;
    }
    if one.is(1, "httpd") {
        for pair in one.words.windows(2).filter(|pair| pair[0].eq_ignore_ascii_case("allow")) {
            if let Some((user, word)) = login(pair[1]) {
                hold(export, &mut reading.facts, word, SecretKind::ServicePassword, serving::unquoted(user));
            }
        }
    }
    if one.is(1, "mailserver") {
        for pair in one.words.windows(2).filter(|pair| pair[0].eq_ignore_ascii_case("password")) {
            hold(export, &mut reading.facts, pair[1], SecretKind::OwnPassword, "mail of Monit");
        }
    }
    for word in one.words.iter().filter(|word| word.contains("://")) {
        mask_login(export, &mut reading.facts, word);
    }
}

/// `user:password`, where a word is that and no address.
fn login(word: &str) -> Option<(&str, &str)> {
    let (user, password) = word.split_once(':')?;
    let address =
        word.parse::<std::net::IpAddr>().is_ok() || crate::addresses::range_or_prefix(word).is_some();
    (!address && !user.is_empty() && !password.is_empty()).then_some((user, password))
}

fn served(one: &Statement<'_>, all: &[Statement<'_>], around: &ReadContext<'_>) -> Option<Served> {
    let origin = one.origin;
    // A line of its own is better evidence than the whole statement.
    let export = around.exports.iter().find(|export| export.id() == origin.export)?;
    let behind = |name: &str| one.behind(name);
    let line = |word: &str| {
        let found = one.words.iter().find(|known| serving::unquoted(known) == word);
        found.map_or(origin, |word| {
            let number = export.line_of(export.origin_of(word).start);
            export.line(number).map_or(origin, |line| export.origin_of(line.text.trim()))
        })
    };
    let port: u16 = behind("port")?.parse().ok()?;
    let name = "Monit";
    let mut served = Served::new(ServedKind::Pages, "Monit", name, &["monit"], line(behind("port")?));
    let certificate = behind("pemfile").or_else(|| behind("pemchain")).or_else(|| {
        // Options of TLS may be set for all of Monit's connections.
        let whole = all.iter().find(|one| one.is(1, "ssl"))?;
        whole.behind("pemfile").filter(|_| behind("ssl").is_some())
    });
    let carried = if certificate.is_some() { TransportSecurity::Encrypted } else { TransportSecurity::Plain };
    let place = Endpoint::everywhere(Protocol::TCP, port, carried, served.origin);
    served.endpoints.push(match behind("address") {
        Some("localhost") => Endpoint { origin: line("localhost"), ..place.at([127, 0, 0, 1].into()) },
        Some(host) => {
            host.parse().map_or(place.clone(), |address| Endpoint { origin: line(host), ..place.at(address) })
        }
        None => place,
    });
    let mut hosts = Sources::default();
    let mut logins: Vec<(AuthRequirement, Origin, bool)> = Vec::new();
    for (number, word) in one.words.iter().enumerate().filter(|(_, word)| word.eq_ignore_ascii_case("allow"))
    {
        let Some(value) = one.words.get(number + 1) else { continue };
        let start = export.line_of(export.origin_of(word).start);
        let origin = export.line(start).map_or(one.origin, |line| export.origin_of(line.text.trim()));
        let only_reads = one.words[number..]
            .iter()
            .skip(1)
            .take_while(|word| !word.eq_ignore_ascii_case("allow"))
            .any(|word| matches!(word.to_ascii_lowercase().as_str(), "read-only" | "readonly"));
        let small = value.to_ascii_lowercase();
        if login(value).is_some()
            || value.starts_with('@')
            || value.starts_with('/')
            || matches!(small.as_str(), "md5" | "crypt" | "cleartext")
        {
            logins.push((AuthRequirement::Password, origin, only_reads));
        } else {
            serving::host(serving::unquoted(value), &mut hosts);
            hosts.origins.push(origin);
        }
    }
    let mut part = ServiceResource::new(PartKind::Page, "/", served.origin);
    part.remarks.push((Remark::Administration, served.origin));
    if !hosts.origins.is_empty() {
        part.sources = hosts;
    }
    let client = behind("clientpemfile").map(line);
    part.login = match (logins.first(), client) {
        (_, Some(origin)) => Setting::Stated { value: AuthRequirement::Certificate, origin },
        (Some((login, origin, _)), None) => Setting::Stated { value: *login, origin: *origin },
        (None, None) => {
            let origin = part.sources.origins.first().copied().unwrap_or(served.origin);
            Setting::Stated { value: AuthRequirement::Nothing, origin }
        }
    };
    let writes = logins.is_empty() || logins.iter().any(|(.., only_reads)| !only_reads);
    part.writes = Setting::Stated { value: writes, origin: part.login.origin().unwrap_or(served.origin) };
    if writes {
        part.remarks.push((Remark::Commands, served.origin));
    }
    part.encryption = Some(Setting::Stated {
        value: if certificate.is_some() { Requirement::Required } else { Requirement::Never },
        origin: served.origin,
    });
    served.parts.push(part);
    Some(served)
}
